package needs

import (
	"debug/pe"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
)

// Windows is what a Windows program asks for: libraries, by name.
type Windows struct {
	Program
	Needs []string // in lower case, sorted
}

// ReadWindows reads the import table of a PE file (Microsoft's PE format, "The
// .idata Section"). It can be read on any system.
func ReadWindows(r io.ReaderAt) (w *Windows, err error) {
	p, ok := ReadProgram(r)
	if !ok || p.OS != "windows" {
		return nil, errors.New("it is no Windows program")
	}
	f, err := pe.NewFile(r)
	if err != nil {
		return nil, err
	}
	// The standard library trusts a section's offsets; a hostile file is an
	// error and no more.
	defer func() {
		if p := recover(); p != nil {
			w, err = nil, fmt.Errorf("its import table is damaged: %v", p)
		}
	}()
	symbols, err := f.ImportedSymbols()
	if err != nil {
		return nil, fmt.Errorf("its imports: %w", err)
	}
	w = &Windows{Program: p}
	for _, s := range symbols {
		if _, lib, ok := strings.Cut(s, ":"); ok {
			w.Needs = append(w.Needs, strings.ToLower(lib))
		}
	}
	slices.Sort(w.Needs)
	w.Needs = slices.Compact(w.Needs)
	return w, nil
}

// windowsOwn are the libraries that each Windows has had since its version 10.
// Names that begin with api-ms-win- or ext-ms- are its own too (API sets).
var windowsOwn = strings.Fields(`advapi32 avrt bcrypt bcryptprimitives cfgmgr32 comctl32 comdlg32 combase credui crypt32 cryptbase d2d1 d3d11 d3d12 d3d9
	dbghelp ddraw dinput8 dnsapi dsound dwmapi dwrite dxgi dxva2 fwpuclnt gdi32 gdi32full gdiplus glu32 hid httpapi imagehlp imm32 iphlpapi kernel32 kernelbase
	ktmw32 mf mfplat mfreadwrite mpr msacm32 mscoree msimg32 msvcrt mswsock ncrypt netapi32 normaliz ntdll ntdsapi ole32 oleacc oleaut32 opengl32 pdh powrprof
	propsys psapi rasapi32 rpcrt4 schannel secur32 setupapi shcore shell32 shlwapi sspicli tdh ucrtbase urlmon user32 userenv usp10 uxtheme version
	wevtapi winhttp wininet winmm winscard winspool.drv wintrust wldap32 wlanapi ws2_32 wsock32 wtsapi32 xinput1_4 xmllite`)

// WindowsOwn tells whether a library comes with Windows itself.
func WindowsOwn(lib string) bool {
	lib = strings.ToLower(lib)
	return strings.HasPrefix(lib, "api-ms-win-") || strings.HasPrefix(lib, "ext-ms-") ||
		slices.Contains(windowsOwn, lib) || slices.Contains(windowsOwn, strings.TrimSuffix(lib, ".dll"))
}
