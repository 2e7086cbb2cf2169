package subscription_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/subscription"
)

// TestAShortageInLargeBooksIsFoundSoon: hosts that need a hundred different things, more
// of them than there are seats.
func TestAShortageInLargeBooksIsFoundSoon(t *testing.T) {
	now := time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC)
	var contracts []subscription.Contract
	for i := range 400 {
		contracts = append(contracts, subscription.Contract{Account: "gannet", Number: fmt.Sprintf("GN-%04d", i), Seats: 25, Price: int64(i),
			Start: now.AddDate(0, -1, 0), End: now.AddDate(1, 0, 0), Opens: []subscription.Opening{{Name: "licensed"}}})
	}
	var needs []subscription.Need
	for i := range 10_050 {
		needs = append(needs, subscription.Need{Host: fmt.Sprintf("gw-%05d", i), Account: "gannet", Opens: []string{"licensed"},
			OS: "skerry", Version: fmt.Sprint(i % 100), Arch: "x86_64"})
	}
	began := time.Now()
	ahead := subscription.NewBooks(contracts, nil, now).Forecast("gannet", needs, nil)
	assert.Less(t, time.Since(began), 2*time.Second)
	assert.Equal(t, 50, ahead.Steps[0].Short)
	began = time.Now()
	plan := subscription.NewBooks(contracts, nil, now).Plan([]subscription.Group{{Name: "gateways", Needs: needs}})
	assert.Less(t, time.Since(began), 5*time.Second)
	assert.Empty(t, plan.Take)
	if assert.Len(t, plan.Short, 1) {
		assert.Equal(t, 50, plan.Short[0].Short)
	}
}
