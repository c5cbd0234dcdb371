package host

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"os/exec"
	"path/filepath"
	"time"

	"freshkeel/internal/tree"
)

// front is the folder by which a command that keeps the server in the foreground is found.
func (d Dir) front() Dir { return Dir(filepath.Join(string(d), "front")) }

// frontLimit is how long such a command may take to start the server.
const frontLimit = 40 * time.Second

// frontStarts has a command that keeps the server in the foreground start it; asked is false
// where there is none.
func (d Dir) frontStarts(l Launch) (st *Status, err error, asked bool) {
	if held, _ := d.front().held(); !held {
		return nil, nil, false
	}
	c, err := d.front().dial()
	if err != nil {
		return nil, nil, false
	}
	defer c.Close()
	c.SetDeadline(time.Now().Add(frontLimit))
	var r reply
	if err = json.NewEncoder(c).Encode(l); err == nil {
		err = json.NewDecoder(io.LimitReader(c, mostSaid)).Decode(&r)
	}
	if err == nil && r.Error != "" {
		err = errors.New(r.Error)
	}
	return r.Status, err, true
}

// ErrFronted says that another command keeps the server in the foreground.
var ErrFronted = errors.New("another command keeps this server in the foreground already")

// OpenFront makes this process the one that starts the server of a run folder, whoever orders it.
func (d Dir) OpenFront(self []string) (release func(), err error) {
	f := d.front()
	if err := tree.MakeDirs(string(f), 0o700); err != nil {
		return nil, err
	}
	lock := tree.NewLock(f.file("minder.lock"))
	if ok, err := lock.TryLock(); err != nil || !ok {
		return nil, errors.Join(ErrFronted, err)
	}
	l, drop, err := f.listen()
	if err != nil {
		lock.Unlock()
		return nil, err
	}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				c.SetDeadline(time.Now().Add(frontLimit))
				var order Launch
				var r reply
				err := json.NewDecoder(io.LimitReader(c, mostSaid)).Decode(&order)
				if err == nil && order.RunDir != string(d) {
					err = errors.New("that is another server's")
				}
				if err == nil {
					r.Status, err = startHere(context.Background(), self, order)
				}
				if err != nil {
					r.Error = err.Error()
				}
				json.NewEncoder(c).Encode(r)
			}()
		}
	}()
	return func() {
		l.Close()
		drop()
		lock.Unlock()
	}, nil
}

// afterCrash runs the command that was ordered for a server which ended by itself, and not well.
func (m *minder) afterCrash() {
	if len(m.l.Crashed) == 0 || m.exit.Asked || m.exit.Status == "status 0" || m.exit.Status == takenStatus {
		return
	}
	cmd := exec.Command(m.l.Crashed[0], m.l.Crashed[1:]...)
	cmd.Dir, cmd.Env, cmd.SysProcAttr = m.l.Install, m.l.CrashedEnv, detached()
	if cmd.Start() == nil {
		go cmd.Wait()
	}
}
