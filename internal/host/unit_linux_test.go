package host

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestUnitGroupsAreReadFromEitherHierarchy(t *testing.T) {
	for text, want := range map[string]string{
		"0::/system.slice/pond.service\n": "/system.slice/pond.service",
		"12:cpu:/\n1:name=systemd:/user.slice/user-7.slice/user@7.service/app.slice/pond.service\n0::/\n": "/user.slice/user-7.slice/user@7.service/app.slice/pond.service",
		"0::/user.slice/user-0.slice/session-3.scope\n":                                                   "",
		"0::/../x.service\n": "", "": "", "0:/x.service": "",
	} {
		assert.Equal(t, want, unitGroup(text), text)
	}
}
