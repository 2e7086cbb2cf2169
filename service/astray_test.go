package service_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/internal/rig"
)

// A host whose clock is wrong is refused; who looks at it is told why, and that it is well again once it is.
func TestAWrongClockIsNamed(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	_, fresh := r.Enrol("gw-01")
	_, known := r.Enrol("gw-02")
	detail := func(name string) (out string) {
		t.Helper()
		d, err := r.Operator.Host(ctx, name)
		require.NoError(t, err)
		return d.State + ": " + d.Detail
	}
	says := func(name, what string) {
		t.Helper()
		r.Until(name+" says "+what, func() bool { return strings.Contains(detail(name), what) })
	}
	right := r.Start(known)
	r.Surveyed("gw-02")
	right()
	wrong := r.StartAt(fresh, func() time.Time { return r.Clock.Now().Add(3 * time.Hour) })
	late := r.StartAt(known, func() time.Time { return r.Clock.Now().Add(-50 * time.Hour) })
	says("gw-01", api.StateNew+": its clock is about 3 h ahead of the service's")
	says("gw-02", api.StateSilent+": its clock is about 2 days behind the service's")
	wrong()
	late()
	defer r.Start(fresh)()
	defer r.Start(known)()
	r.Surveyed("gw-01")
	r.Until("nothing is said of clocks", func() bool {
		return !strings.Contains(detail("gw-01"), "clock") && !strings.Contains(detail("gw-02"), "clock") &&
			!strings.HasPrefix(detail("gw-02"), api.StateSilent)
	})
}
