package journal

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/store"
)

type mira struct{}

func (mira) Actor() Actor { return Actor{ActorOperator, "mira"} }

// Whoever calls stands in the context; where nobody does, it is the service itself.
func TestWhoIsBehindACall(t *testing.T) {
	assert.Equal(t, "service", By(t.Context()).String())
	assert.Nil(t, Who(t.Context()))
	ctx := With(t.Context(), mira{})
	assert.Equal(t, "operator:mira", By(ctx).String())
	assert.Equal(t, mira{}, Who(ctx))
}

func TestWhatIsNotEverybodysBusinessIsNotTold(t *testing.T) {
	for kind, told := range map[string]bool{KindHost: true, KindRollout: true, KindSeats: true, KindOperator: false, KindSecrets: false} {
		assert.Equal(t, told, Told(store.Entry{Kind: kind}), kind)
	}
}

func TestADetailIsWrittenBesideTheName(t *testing.T) {
	e := store.Entry{Kind: KindHost, Name: "gw-01"}
	assert.JSONEq(t, `{"hosts":3}`, string(Detailed(e, map[string]int{"hosts": 3}).Detail))
	assert.Empty(t, Detailed(e, func() {}).Detail, "what cannot be written leaves the entry as it is")
}
