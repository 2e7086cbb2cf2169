package rpm

import (
	"maps"
	"slices"
)

// SettingsThatDecide are those of [main], sorted.
func SettingsThatDecide() []string { return slices.Sorted(maps.Keys(touching)) }
