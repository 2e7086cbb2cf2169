package rpm

import (
	"errors"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/toml"
)

// LocksTOML is the file of dnf 5's version locks: dnf5-versionlock(8).
const LocksTOML = "/etc/dnf/versionlock.toml"

// What dnf 5 knows of a condition; one with anything else is none.
var lockSigns = map[string][]string{
	"epoch": {"=", "==", "!=", "<", "<=", ">", ">="}, "evr": {"=", "==", "!=", "<", "<=", ">", ">="}, "arch": {"=", "==", "!="},
}

// locks5 reads dnf 5's version locks: names, each with conditions that a build must meet.
func (r *reader) locks5() {
	text, err := r.root.ReadText(LocksTOML)
	if err != nil { // told with what decides beside the configuration, which keeps the text too
		return
	}
	file, err := toml.Parse(text)
	if err != nil {
		var e *toml.Error
		errors.As(err, &e)
		r.Problem(LocksTOML, e.Line, "dnf 5 gives up at it where it would install or upgrade: "+e.Says, false)
		return
	}
	packages, wrong := lockTables(file)
	if wrong != "" {
		r.Problem(LocksTOML, 0, "dnf 5 gives up at it where it would install or upgrade: "+wrong, false)
		return
	}
	if file["version"] != "1.0" { // dnf 5 takes no other
		return
	}
	lines := headed(string(text), "packages", len(packages))
	for i, at := range packages {
		name, _ := at["name"].(string)
		if conditions, _ := at["conditions"].([]any); name != "" && len(conditions) > 0 {
			r.HoldWhere(source.HoldLock, name, "", lockCriteria(at), LocksTOML, lines[i])
		}
	}
}

// lockTables are the tables of locks; wrong says what is of another kind than dnf 5 takes it for.
func lockTables(file toml.Table) (out []toml.Table, wrong string) {
	texts := func(at toml.Table, names ...string) {
		for _, n := range names {
			if v, said := at[n]; said {
				if _, is := v.(string); !is {
					wrong = n + " is no text"
				}
			}
		}
	}
	tables := func(at toml.Table, name string) (list []toml.Table) {
		v, said := at[name]
		all, is := v.([]any)
		for _, x := range all {
			t, whole := x.(toml.Table)
			list, is = append(list, t), is && whole
		}
		if said && !is {
			wrong = name + " are no tables"
		}
		return list
	}
	texts(file, "version")
	out = tables(file, "packages")
	for _, at := range out {
		texts(at, "name", "comment")
		for _, c := range tables(at, "conditions") {
			texts(c, "key", "comparator", "value")
		}
	}
	return out, wrong
}

// lockCriteria are the conditions of a lock that dnf 5 understands: "evr <= 0:5.2-3, arch = x86_64". Where it
// understands none of them, the lock keeps nothing away, and lets in what others would.
func lockCriteria(lock toml.Table) string {
	var out []string
	conditions, _ := lock["conditions"].([]any)
	for _, c := range conditions {
		at, _ := c.(toml.Table)
		key, _ := at["key"].(string)
		sign, _ := at["comparator"].(string)
		value, _ := at["value"].(string)
		if slices.Contains(lockSigns[key], sign) && value != "" {
			out = append(out, key+" "+sign+" "+value)
		}
	}
	return strings.Join(out, ", ")
}

// headed are the lines on which the tables of a list begin; 0 where they are written otherwise.
func headed(text, list string, n int) []int {
	out, line := make([]int, 0, n), 0
	for l := range strings.Lines(text) {
		line++
		if strings.HasPrefix(strings.ReplaceAll(l, " ", ""), "[["+list+"]]") {
			out = append(out, line)
		}
	}
	if len(out) != n {
		return make([]int, n)
	}
	return out
}
