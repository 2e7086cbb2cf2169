package service_test

import (
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/internal/rig"
)

func namesOf(hosts []api.Host) []string {
	out := []string{}
	for i := range hosts {
		out = append(out, hosts[i].Name)
	}
	return out
}

// Hosts are selected alike by every list; those of which it is not known are counted.
func TestHostsAreSelectedAndThoseNotKnownOfCounted(t *testing.T) {
	r := rig.New(t)
	for _, name := range []string{"gw-01", "gw-02", "gw-04", "desk-1"} {
		r.Up(name)
	}
	r.Enrol("gw-03") // it has joined, and sent nothing
	r.Publish()
	for _, c := range []struct {
		name    string
		to      []string
		where   string
		want    int
		unknown int
	}{
		{"all", nil, "", 5, 0},
		{"by name", []string{"gw-01", "desk-1"}, "", 2, 0},
		{"a range", []string{"gw-{01..02}"}, "", 2, 0},
		{"a group and those that may be in it", []string{"gateways"}, "", 3, 1},
		{"a group and a name", []string{"desks", "gw-03"}, "", 2, 0},
		{"a condition", nil, "os.major < 12", 1, 1},
		{"both must hold", []string{"gateways"}, "os.major >= 12", 2, 1},
		{"a name that is known, a condition that is not", []string{"gw-03"}, "os.major >= 12", 0, 1},
		{"by the name itself", nil, `host.name.startsWith("gw")`, 3, 1},
	} {
		t.Run(c.name, func(t *testing.T) {
			l := client.List{To: c.to, Where: c.where}
			hosts, err := r.Operator.Hosts(t.Context(), l)
			require.NoError(t, err)
			assert.Equal(t, []int{c.want, c.unknown}, []int{hosts.Total, hosts.Unknown})
			named, err := r.Operator.HostNames(t.Context(), l)
			require.NoError(t, err)
			assert.Equal(t, api.HostNames{Names: namesOf(hosts.Hosts), Total: c.want, Unknown: c.unknown}, named)
			found, err := r.Operator.GroupedDrift(t.Context(), l)
			require.NoError(t, err)
			assert.Equal(t, c.unknown, found.Unknown)
			if len(c.to)+len(c.where) > 0 {
				assert.Equal(t, c.want, found.Standing.Hosts)
			}
		})
	}
	for where, says := range map[string]string{
		"os.distro == \"x\"":    `no such fact: os.distro; did you mean "os.id"?`,
		"os.major":              "a condition is true or false",
		"tools.zypper.atLeast(": "where: ",
	} {
		_, err := r.Operator.Hosts(t.Context(), client.List{Where: where})
		require.ErrorContains(t, err, says)
	}
	_, err := r.Operator.BeginRollout(t.Context(), api.RolloutOrder{To: []string{"gateways"}, Where: "os.major > 90", Try: true})
	assert.ErrorContains(t, err, "no host is meant by gateways, where os.major > 90")
}

// A host that nothing can be carried to keeps no group from being changed; one that is named is
// refused in words.
func TestAHostThatCannotBeChangedKeepsNoGroupBack(t *testing.T) {
	r := rig.New(t)
	r.Up("gw-01")
	root := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(root, "etc"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/os-release"), []byte("ID=whelk\nVERSION_ID=\"12\"\n"), 0o644))
	r.Start(r.EnrolRoot("gw-02", root))
	r.Surveyed("gw-02")
	r.Publish()
	for _, o := range []api.RolloutOrder{{To: []string{"gateways"}}, {Where: "os.major == 12"}, {To: []string{"gateways"}, Where: "os.major == 12"}} {
		o.Try = true
		ro, err := r.Operator.BeginRollout(t.Context(), o)
		require.NoError(t, err, "%v", o)
		assert.Equal(t, 1, ro.All(), "%v", o)
	}
	_, err := r.Operator.BeginRollout(t.Context(), api.RolloutOrder{To: []string{"gw-{01..02}"}, Try: true})
	assert.ErrorContains(t, err, "nothing can be carried to gw-02.brinewick.test")
}

// Hosts are picked by what they have and by being alike; those without a survey are counted.
func TestHostsAreFoundByWhatTheyHave(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Up("gw-01")
	root := r.Up("gw-02")
	r.Up("gw-06")
	r.Publish()
	require.Equal(t, 3, r.Carry().Counts["done"])
	_, err := r.Operator.Invite(t.Context(), api.InviteOrder{Host: "gw-04.brinewick.test"})
	require.NoError(t, err)
	put(t, root, "etc/apt/sources.list.d/plover.list", "deb [signed-by=/etc/apt/keyrings/x.asc] http://metrics.plover.example/apt rolling main\n")
	list := func(name, value string) client.List {
		return client.List{Filter: map[string][]string{name: {value}}}
	}
	names := func(page api.HostPage) (out []string) {
		for _, h := range page.Hosts {
			out = append(out, h.Name[:5])
		}
		return out
	}
	r.Until("gw-02 is like no other", func() bool {
		page, err := r.Operator.Hosts(t.Context(), list("like", "gw-02"))
		return err == nil && page.Total == 1
	})
	places, err := r.Operator.Repositories(t.Context(), client.List{Query: "plover"})
	require.NoError(t, err)
	require.Len(t, places.Repositories, 1)
	for _, c := range []struct {
		facet, value string
		want         []string
	}{
		{"has", "saltmarsh", []string{"gw-01", "gw-02", "gw-06"}},
		{"has", places.Repositories[0].Key, []string{"gw-02"}},
		{"like", "gw-01", []string{"gw-01", "gw-06"}},
		{"like", "gw-02", []string{"gw-02"}},
	} {
		page, err := r.Operator.Hosts(t.Context(), list(c.facet, c.value))
		require.NoError(t, err)
		assert.Equal(t, c.want, names(page), c.facet+" "+c.value)
		assert.Equal(t, len(c.want), page.Total)
	}
	for facet, value := range map[string]string{"has": "gulls", "like": "gw-09"} {
		_, err := r.Operator.Hosts(t.Context(), list(facet, value))
		require.Error(t, err)
	}
}

// An order may name every host of a fleet.
func TestAnOrderMayNameManyHosts(t *testing.T) {
	r := rig.New(t)
	r.Up("gw-01")
	r.Publish()
	to := slices.Repeat([]string{"gw-01.brinewick.test"}, 50_000)
	l, err := r.Operator.LabelHosts(t.Context(), api.LabelOrder{To: to, Set: map[string]string{"site": "reef"}, Try: true})
	require.NoError(t, err)
	assert.Equal(t, 1, l.Relabelled)
	x, err := r.Operator.BeginRollout(t.Context(), api.RolloutOrder{To: to, Try: true})
	require.NoError(t, err)
	assert.Equal(t, 1, x.Waves)
}
