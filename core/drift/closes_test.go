package drift

import (
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhatClosesAFindingIsSaidOfClassesThatAre(t *testing.T) {
	assert.Subset(t, Classes, slices.Collect(maps.Keys(closes)))
	assert.Empty(t, Closes(ChangedSource))
}
