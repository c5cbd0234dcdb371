package words

import "regexp"

// IsUnit tells whether a text is a service's name, as systemd.unit(5) allows it.
func IsUnit(name string) bool { return unitName.MatchString(name) }

var unitName = regexp.MustCompile(`^[A-Za-z0-9:_.@\\-]+\.service$`)
