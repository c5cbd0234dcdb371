//go:build unix

package host

import "os"

// plainConsole is a console without names: it ends with its minder.
func plainConsole() (*console, error) {
	c := &console{}
	var err error
	if c.stdin, c.in, err = os.Pipe(); err != nil {
		return nil, err
	}
	c.out, c.stdout, err = os.Pipe()
	return c, err
}
