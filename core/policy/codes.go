package policy

import (
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/diag"
)

// Code is a kind of diagnostic. Its name is stable.
type Code struct {
	Severity string `json:"severity"` // error, warning
	Meaning  string `json:"meaning"`
	Remedy   string `json:"remedy"`
}

// Codes lists every code, by name.
var Codes = map[string]Code{
	"alias": {
		diag.Error,
		"an anchor, alias, merge key or tag of YAML, which a policy does not use",
		"write the value out, or use settings",
	},
	"conflict": {diag.Error, "two assignments say different things about the same host", "say `over:` in the one that shall win"},
	"cycle":    {diag.Error, "assignments that stand over each other in a circle", "take one `over:` out"},
	"encoding": {diag.Error, "a file that is not UTF-8 text", "save it as UTF-8"},
	"expectation": {
		diag.Error,
		"what the team expects of the policy does not hold for a host",
		"mend the policy, or what is expected; `lantern policy test` shows why",
	},
	"expectation-idle": {
		diag.Warning,
		"an expectation that is about no host of the fleet, so that it was not tried",
		"say to or where otherwise, or describe a host with `host:`",
	},
	"expression": {
		diag.Error,
		"a condition that does not compile, or fails on a host",
		"use the facts that there are; ask `has()` for labels and tools that may be absent",
	},
	"fingerprint": {diag.Error, "a fingerprint that is not one", "copy it from the vendor's own page, whole"},
	"format":      {diag.Error, "the format line is missing or names another format", "begin each file with `format: " + Format + "`"},
	"heal-idle": {
		diag.Warning,
		"findings that are to be healed, and that healing does not close",
		"leave it out: such findings say what closes them; for sources that are not in the policy say `unlisted: switch-off`",
	},
	"key-ends": {
		diag.Warning,
		"a key that ends soon and that no other succeeds, or one that has ended",
		"get the vendor's next key, and say `succeeds:`; take out what has ended",
	},
	"key-withdrawn": {
		diag.Warning,
		"a repository that is off because every key that it is believed by is withdrawn",
		"when the vendor has a new key, add it with `succeeds:`",
	},
	"key-weak": {
		diag.Warning,
		"a key that is DSA, short RSA, or bound together with SHA-1",
		"ask the vendor for a stronger one, or say why it is trusted all the same",
	},
	"key-file": {
		diag.Error,
		"a key or certificate file that cannot be read",
		"put it into the folder; nothing is fetched from the net",
	},
	"key-mismatch": {diag.Error, "a key file that does not hold the pinned key", "find out which is right before you change either"},
	"key-missing":  {diag.Error, "a repository whose signatures are checked but which names no key", "name its key under `keys:`"},
	"key-unusable": {diag.Error, "a key that is expired or revoked", "get the vendor's new key"},
	"left-out": {
		diag.Warning,
		"a link, or something else that is no file, where a file or folder of the policy could be",
		"put the file itself there, or give it another name",
	},
	"missing":    {diag.Error, "something that must be given is not", "add what is named"},
	"name":       {diag.Error, "a name that is not allowed", "use small letters, digits and -"},
	"name-twice": {diag.Error, "a name that is defined twice", "keep one of them, or give the other a new name"},
	"no-reason":  {diag.Error, "a weakened check, or a decision, without a reason", "say why, with `because:`"},
	"no-label": {
		diag.Warning,
		"a plan that spreads over a label which hosts that follow it do not have",
		"give them the label, or correct its name",
	},
	"empty-plan": {diag.Warning, "a plan that no host of the fleet follows", "give it to a group with `plan:`, or take it out"},
	"empty-wave": {
		diag.Warning,
		"a wave of which it is sure that no host of the fleet is in it",
		"correct the name or range, or enrol the host",
	},
	"never-applies": {
		diag.Warning,
		"a repository that comes to nothing on any host of the fleet",
		"look at its groups and families, or take it out",
	},
	"no-such-host": {diag.Warning, "a group that names hosts which are not enrolled", "correct the range, or enrol them"},
	"needs":        {diag.Error, "a repository needs another, which the same host does not get", "assign both to the same hosts"},
	"nothing-read": {
		diag.Error,
		"a folder without policy files, or one that cannot be read",
		"name the folder that holds the files",
	},
	"plain-transport": {
		diag.Warning,
		"unchecked signatures over a connection that anybody can change",
		"use https, or check signatures",
	},
	"range": {
		diag.Error,
		"a range of host names that is empty, malformed or too large",
		"write it as `gw-{01..12}.brinewick.test`",
	},
	"secret": {
		diag.Error,
		"a secret written into the policy",
		"take it out, and change it: whoever reads the policy could read it",
	},
	"size":   {diag.Error, "a file that is too large for a policy", "split it, or move what is no policy elsewhere"},
	"syntax": {diag.Error, "text that is not YAML", "look at the line and the one above it"},
	"unknown-fact": {
		diag.Error,
		"an interpolation of something that is neither a setting nor a fact",
		"give it under `settings:`, or use a fact that the host has",
	},
	"unknown-key":  {diag.Error, "a key that the language does not know", "take the near one that is named"},
	"unknown-name": {diag.Error, "a reference to something that is not defined", "define it first, or take the near one that is named"},
	"unused":       {diag.Warning, "a definition that nothing uses", "use it, or take it out"},
	"url-twice":    {diag.Warning, "two repositories that are the same place", "keep one of them"},
	"too-large": {
		diag.Error,
		"a folder, or a part of it, that is larger than a policy can be",
		"part it, or take out what does not belong there",
	},
	"needs-unmet": {
		diag.Warning,
		"hosts that do not have what a repository needs, so their change would be refused",
		"install it there first, or say the need for those hosts alone that have it",
	},
	"pin-matches": {
		diag.Error,
		"a pin that matches other sources of some hosts as well, or not its own",
		"say what the Release file of the suite says: release: { … }",
	},
	"release-unknown": {
		diag.Warning,
		"a Release file that could not be asked for, so what the policy says of it was not looked at",
		"try again where the vendor can be reached",
	},
	"release-differs": {diag.Error, "what the policy says of a Release file is not what the vendor's says", "write what it says"},
	"upstream-refused": {
		diag.Warning, "a place that hosts would get packages from, and where what stands would be refused on each of them",
		"do what it says, or wait until the vendor has",
	},
	"upstream-unseen": {
		diag.Warning, "a place that hosts would get packages from, and that could not be looked at from here",
		"have the service look: lantern repository probe",
	},
	"wide-trust": {
		diag.Warning,
		"a repository that trusts keys which have nothing to do with each other, or a pin that matches more than its own",
		"keep what it needs",
	},
	"wrong-release": {diag.Warning, "a suite of another release than the host's", "use `${os.codename}`, or a case"},
	"not-held": {
		diag.Warning,
		"packages that a package manager cannot be told to hold at a series of versions",
		"lock them on those hosts, or see what they have",
	},
	"mirror-alone": {
		diag.Warning,
		"a site's mirror behind which upstream cannot be tried, though the site says fall-back",
		"name the url of the distribution's own entries, or see to a mirror that always answers",
	},
	"not-proxied": {
		diag.Warning,
		"a package manager that the policy cannot tell of its site's proxy",
		"set it on those hosts, in the package manager's own settings or its environment",
	},
	"contradicting": {
		diag.Error, "two repositories stand in one suite and say otherwise who signs it, so that apt refuses all sources",
		"give both the same keys, in one order, and the same signatures",
	},
	"doubled": {
		diag.Error,
		"two repositories that are the same source on one host, which the package manager refuses or takes once",
		"assign one of them",
	},
	"host-fact": {
		diag.Warning,
		"hosts that do not tell of themselves what the policy puts in there, or tell what cannot stand there; they get nothing until they do",
		"see what their /etc/os-release says, use a fact that they have, or a case",
	},
	"value": {diag.Error, "a value of the wrong kind", "write what is named"},
}

// Meanings maps each code to what it stands for.
func Meanings() map[string]string {
	out := make(map[string]string, len(Codes))
	for name, c := range Codes {
		out[name] = c.Meaning
	}
	return out
}

// CodeNames lists the codes, sorted.
func CodeNames() []string {
	out := sortedNames(Codes)
	slices.Sort(out)
	return out
}

// Reference writes the codes as a page of the documentation.
func Reference() string {
	var b strings.Builder
	b.WriteString(
		"# Diagnostics\n\nWritten from the code's own table by `make types`; `lantern policy codes` prints the same. Codes are stable: " +
			"programs may rely on them. An error keeps\n" +
			"a folder from being published, a warning does not.\n\n| code | severity | meaning | what to do |\n| --- | --- | --- | --- |\n",
	)
	for _, name := range CodeNames() {
		c := Codes[name]
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", name, c.Severity, c.Meaning, c.Remedy)
	}
	return b.String()
}
