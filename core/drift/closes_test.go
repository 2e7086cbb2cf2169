package drift

import (
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhatClosesAFindingIsSaidOfClassesThatAre(t *testing.T) {
	assert.Subset(t, Classes, slices.Collect(maps.Keys(closes)))
	assert.Empty(t, (&Finding{Class: ChangedSource}).ClosedBy())
	assert.NotEmpty(t, (&Finding{Class: SeatEnds}).ClosedBy())
	assert.Contains(t, (&Finding{Class: SettingChanged, Stays: true}).ClosedBy(), "lantern host accept")
}
