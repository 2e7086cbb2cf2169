package drift

import (
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/family/deb"
)

func TestWhatClosesAFindingIsSaidOfClassesThatAre(t *testing.T) {
	assert.Subset(t, Classes, slices.Collect(maps.Keys(closes)))
	assert.Empty(t, (&Finding{Class: ChangedSource}).ClosedBy())
	assert.NotEmpty(t, (&Finding{Class: SeatEnds}).ClosedBy())
	assert.Contains(t, (&Finding{Class: SettingChanged, Stays: true}).ClosedBy(), "lantern host accept")
	assert.Contains(t, (&Finding{Class: SettingChanged, File: deb.Foreign, Stays: true}).ClosedBy(), "--remove-architecture")
	assert.Contains(t, (&Finding{Class: NotRead, File: deb.Foreign, Stays: true, Beside: true}).ClosedBy(), "make it less")
}
