//go:build !linux

package host

import "github.com/shirou/gopsutil/v4/process"

// memoryHeld is what processes have of the machine's memory, in bytes; what several share counts for each.
func memoryHeld(pids []int) (sum int64, all bool) {
	for _, pid := range pids {
		p := &process.Process{Pid: int32(pid)}
		if m, err := p.MemoryInfo(); err == nil && m != nil {
			sum += int64(m.RSS)
		}
	}
	return sum, true
}
