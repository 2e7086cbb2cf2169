package rpm

import (
	"maps"
	"slices"
)

// SettingsThatDecide are those of [main], sorted; but arch, of which dnf knows few values and does nothing under another.
func SettingsThatDecide() []string {
	return slices.DeleteFunc(slices.Sorted(maps.Keys(touching)), func(key string) bool { return key == "arch" })
}
