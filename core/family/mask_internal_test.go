package family

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestMostURLsAreAskedNothing draws URLs without login, port and query: what masks one finds nothing in them.
func TestMostURLsAreAskedNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		rest := rapid.StringMatching(`([a-z0-9A-Z./;&=$%{}()* +~'"\\-]|token=|password=|password |key=){0,30}`).Draw(t, "rest")
		require.Equal(t, "https://"+rest, maskAfter("https", rest))
		require.Equal(t, "https://"+rest, MaskURL("https://"+rest))
	})
}
