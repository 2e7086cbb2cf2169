package policy

import (
	"reflect"
	"strings"
)

// The types of this file are the grammar of a policy file. The loader takes the keys
// that it allows from them, and Schema describes them to editors; what the values mean
// is the loader's to say. Tags: yaml is the key, doc is for people, enum lists the
// values that there are, form names a pattern of Schema, need marks what must be given.

type fileForm struct {
	Format       string                       `yaml:"format" doc:"format of the file" enum:"patient-lantern/1" need:"yes"`
	Publishing   *publishingForm              `yaml:"publishing" doc:"what publishing a folder wants"`
	Notice       *noticeForm                  `yaml:"notice" doc:"how long before something ends it is spoken of"`
	Keys         map[string]keyForm           `yaml:"keys" doc:"vendors' signing keys, by name"`
	Withdrawn    map[string]withdrawnForm     `yaml:"withdrawn" doc:"keys that are believed no more, whatever else is said of them"`
	Repositories map[string]repositoryForm    `yaml:"repositories" doc:"places that packages come from, by name"`
	Contracts    map[string]contractForm      `yaml:"contracts" doc:"what vendors sold, by name"`
	Channels     map[string]channelForm       `yaml:"channels" doc:"choices between repositories, by name"`
	Labels       map[string]map[string]string `yaml:"labels" doc:"labels of hosts: name or brace range, then label: value"`
	Groups       map[string]groupForm         `yaml:"groups" doc:"named sets of hosts"`
	Plans        map[string]planForm          `yaml:"plans" doc:"in which waves hosts are changed, by name"`
	Sites        map[string]siteForm          `yaml:"sites" doc:"mirrors of sites, by name"`
	Assign       []assignmentForm             `yaml:"assign" doc:"who gets what"`
	Expect       []expectForm                 `yaml:"expect" doc:"what it should come to; tried by check, preview, publish and test"`
}

type publishingForm struct {
	Consent bool `yaml:"consent" doc:"somebody else than who proposes a folder must agree to it before it is published; false when left out"`
}

type noticeForm struct {
	Keys string `yaml:"keys" doc:"warn of keys that end within so many days; 30 days when left out" form:"days"`
}

type keyForm struct {
	File        string `yaml:"file" doc:"the key's file, beside this one" need:"yes"`
	Fingerprint string `yaml:"fingerprint" doc:"of the primary key in full, 40 or 64 hexadecimal digits" form:"fingerprint" need:"yes"`
	Succeeds    string `yaml:"succeeds" doc:"the key that this one takes over from; it is trusted wherever that one is" form:"name"`
	Because     string `yaml:"because" doc:"why a weak key is trusted all the same"`
}

type withdrawnForm struct {
	Because string `yaml:"because" doc:"why it is believed no more" need:"yes"`
	Author  string `yaml:"author" doc:"who decided it"`
}

type definitionForm struct {
	Deb     *debForm     `yaml:"deb" doc:"for apt"`
	Rpm     *rpmForm     `yaml:"rpm" doc:"for dnf and yum"`
	Zypp    *zyppForm    `yaml:"zypp" doc:"for zypper"`
	Arch    *archForm    `yaml:"arch" doc:"for pacman"`
	Flatpak *flatpakForm `yaml:"flatpak" doc:"for flatpak, system-wide"`
}

type flatpakForm struct {
	URL      string           `yaml:"url" doc:"URL of the remote" form:"url"`
	Priority *int             `yaml:"priority" doc:"flatpak's own number, where above and below do not do"`
	Needs    *familyNeedsForm `yaml:"needs" doc:"what hosts of this family must have, as well as what all must"`
	Witness  *witnessForm     `yaml:"witness" doc:"a package that proves that it works on hosts of this family"`
}

type placeForm struct {
	URL      string           `yaml:"url" doc:"base URL" form:"url"`
	Sections []string         `yaml:"sections" doc:"in place: names of the sections that are the distribution's own"`
	ComesBy  string           `yaml:"comes-by" doc:"in place: the package that brings the entries"`
	Priority *int             `yaml:"priority" doc:"the package manager's own number, where above and below do not do"`
	Needs    *familyNeedsForm `yaml:"needs" doc:"what hosts of this family must have, as well as what all must"`
	Witness  *witnessForm     `yaml:"witness" doc:"a package that proves that it works on hosts of this family"`
}

type rpmForm struct {
	placeForm
	Mirrors   []string `yaml:"mirrors" doc:"base URLs of mirrors, which become a file of their own"`
	Access    string   `yaml:"access" doc:"how a licensed repository is opened" enum:"login,client-certificate,token-url"`
	Authority string   `yaml:"authority" doc:"file of certificates (PEM) that vouch for the server"`
}

type zyppForm struct {
	placeForm
	Mirrors []string `yaml:"mirrors" doc:"base URLs of mirrors, which become a file of their own"`
	Access  string   `yaml:"access" doc:"how a licensed repository is opened" enum:"login,token-url"`
}

type archForm struct {
	URL      string           `yaml:"url" doc:"base URL" form:"url"`
	Sections []string         `yaml:"sections" doc:"in place: names of the sections that are the distribution's own"`
	Mirrors  []string         `yaml:"mirrors" doc:"base URLs of mirrors, which become a file of their own"`
	ComesBy  string           `yaml:"comes-by" doc:"in place: the package that brings the entries"`
	Access   string           `yaml:"access" doc:"how a licensed repository is opened" enum:"login-in-url"`
	Needs    *familyNeedsForm `yaml:"needs" doc:"what hosts of this family must have, as well as what all must"`
	Witness  *witnessForm     `yaml:"witness" doc:"a package that proves that it works on hosts of this family"`
}

type debForm struct {
	URL        string           `yaml:"url" doc:"base URL" form:"url"`
	Mirrors    []string         `yaml:"mirrors" doc:"base URLs of mirrors, which become a file of their own"`
	Suites     []string         `yaml:"suites" doc:"suites, or paths that end in /"`
	Components []string         `yaml:"components" doc:"components of each suite"`
	Archs      []string         `yaml:"architectures" doc:"architectures; the host's own when left out"`
	Kinds      []string         `yaml:"kinds" doc:"what is fetched" enum:"binary,source"`
	Add        []string         `yaml:"add-components" doc:"components that are added"`
	Drop       []string         `yaml:"drop-components" doc:"components that are taken out"`
	ComesBy    string           `yaml:"comes-by" doc:"in place: the package that brings the entries"`
	Release    releaseForm      `yaml:"release" doc:"what the suite's Release file says, for pins; a list for several suites"`
	Pin        string           `yaml:"pin" doc:"what a pin of preferences(5) matches, where release does not do"`
	Priority   *int             `yaml:"priority" doc:"Pin-Priority, where above and below do not do"`
	Needs      *familyNeedsForm `yaml:"needs" doc:"what hosts of this family must have, as well as what all must"`
	Witness    *witnessForm     `yaml:"witness" doc:"a package that proves that it works on hosts of this family"`
}

type familyNeedsForm struct {
	Packages []string          `yaml:"packages" doc:"packages that must be installed"`
	Free     map[string]string `yaml:"free" doc:"space that must be free: folder, then an amount such as 200MiB" form:"size"`
	Tools    map[string]string `yaml:"tools" doc:"package tools and the least version of each"`
}

type releaseForm struct {
	Origin               string `yaml:"origin" doc:"the field Origin"`
	Label                string `yaml:"label" doc:"the field Label"`
	Suite                string `yaml:"suite" doc:"the field Suite"`
	Codename             string `yaml:"codename" doc:"the field Codename"`
	NotAutomatic         *bool  `yaml:"not-automatic" doc:"it says NotAutomatic: yes, so apt installs nothing from it of itself"`
	ButAutomaticUpgrades *bool  `yaml:"but-automatic-upgrades" doc:"it says ButAutomaticUpgrades: yes"`
}

type repositoryForm struct {
	Title      string            `yaml:"title" doc:"name for people"`
	Support    string            `yaml:"support" doc:"who stands behind it" enum:"vendor,distribution,community,internal"`
	Settings   map[string]string `yaml:"settings" doc:"named values with their defaults; assignments can say others"`
	Keys       []string          `yaml:"keys" doc:"signing keys, by name"`
	Signatures string            `yaml:"signatures" doc:"whether signatures are checked" enum:"required,off"`
	Because    string            `yaml:"because" doc:"why a check is weakened"`
	Enabled    *bool             `yaml:"enabled" doc:"false keeps the source present and off"`
	InPlace    *bool             `yaml:"in-place" doc:"edit the distribution's own entries"`
	Above      []string          `yaml:"above" doc:"repositories whose packages of the same name it wins over"`
	Below      []string          `yaml:"below" doc:"repositories that win over it"`
	Media      *mediaForm        `yaml:"media" doc:"install media or a folder that one host holds"`
	Needs      *needsForm        `yaml:"needs" doc:"what must be there before it is switched on"`
	Witness    *witnessForm      `yaml:"witness" doc:"a package that proves that it works"`
	definitionForm
	Files map[string]definitionForm `yaml:"files" doc:"further files of the repository, by name"`
	Cases []caseForm                `yaml:"cases" doc:"what changes where a condition holds, in order"`
}

type mediaForm struct {
	Host string `yaml:"host" doc:"the host that holds it" need:"yes"`
	Path string `yaml:"path" doc:"where it stands there" form:"path" need:"yes"`
	URL  string `yaml:"url" doc:"where the other hosts find it" form:"url"`
}

type needsForm struct {
	Packages     []string          `yaml:"packages" doc:"packages that must be installed"`
	Repositories []string          `yaml:"repositories" doc:"repositories that the host must have too"`
	Free         map[string]string `yaml:"free" doc:"space that must be free: folder, then an amount such as 200MiB" form:"size"`
	Tools        map[string]string `yaml:"tools" doc:"package tools and the least version of each"`
}

type witnessForm struct {
	Package string `yaml:"package" doc:"a package that is known to exist only there" need:"yes"`
	AtLeast string `yaml:"at-least" doc:"the least version of it that must be visible"`
}

type caseForm struct {
	Where   string           `yaml:"where" doc:"condition in CEL" need:"yes"`
	Enabled *bool            `yaml:"enabled" doc:"false keeps the source present and off"`
	Needs   *familyNeedsForm `yaml:"needs" doc:"what these hosts must have, as well as what all must"`
	Witness *witnessForm     `yaml:"witness" doc:"a package that proves that it works on these hosts"`
	definitionForm
	Files map[string]definitionForm `yaml:"files" doc:"further files of the repository, by name"`
}

type contractForm struct {
	Title   string   `yaml:"title" doc:"name for people"`
	Account string   `yaml:"account" doc:"account at the vendor's desk; the contract's name when left out" form:"name"`
	Numbers []string `yaml:"numbers" doc:"only these contracts of the account"`
}

// channelForm has a title, and each choice under a name of its own.
type channelForm struct {
	Title   string                `yaml:"title" doc:"name for people"`
	Choices map[string]choiceForm `yaml:"*"`
}

type choiceForm struct {
	Repository string      `yaml:"repository" doc:"the repository that it stands for" form:"name" need:"yes"`
	Contract   string      `yaml:"contract" doc:"what opens it; open when left out" form:"name"`
	Opens      string      `yaml:"opens" doc:"what the vendor's desk calls it; the repository's name when left out"`
	Pinned     string      `yaml:"pinned" doc:"the version that it stays at; rolling when left out"`
	Hold       []string    `yaml:"hold" doc:"packages that are held at the pinned series, where the vendor keeps all versions in one place"`
	Variants   variantForm `yaml:"variants" doc:"for those who ask for them"`
}

type variantForm struct {
	Debug  string `yaml:"debug" doc:"repository with debug symbols" form:"name"`
	Source string `yaml:"source" doc:"repository with sources" form:"name"`
}

type groupForm struct {
	Hosts  []string `yaml:"hosts" doc:"names of hosts; ranges as gw-{01..12}.brinewick.test"`
	Where  string   `yaml:"where" doc:"condition in CEL"`
	Groups []string `yaml:"groups" doc:"groups whose hosts are in it too"`
	Except []string `yaml:"except" doc:"groups and hosts that are not in it"`
}

type assignmentForm struct {
	To           oneOrMany             `yaml:"to" doc:"groups, hosts, or everyone" need:"yes"`
	Over         oneOrMany             `yaml:"over" doc:"groups whose assignments this one wins over"`
	Repositories []string              `yaml:"repositories" doc:"repositories, by name"`
	Channels     map[string]followForm `yaml:"channels" doc:"channel: choice"`
	Seats        string                `yaml:"seats" doc:"how seats are taken" enum:"by-hand,automatic"`
	Without      *decisionForm         `yaml:"without-contract" doc:"a recorded decision to run without a contract"`
	Unlisted     string                `yaml:"unlisted" doc:"what becomes of sources that are not listed" enum:"report,switch-off,remove"`
	Findings     map[string]ruleForm   `yaml:"findings" doc:"class of finding: what is done about it, and what weight it has"`
	ReadLogins   *bool                 `yaml:"read-logins" doc:"whether agents may read who used sudo then; no when left out"`
	Plan         string                `yaml:"plan" doc:"how they are changed; one host, a tenth, then all others when left out" form:"name"`
	Site         string                `yaml:"site" doc:"the site whose mirrors they use" form:"name"`
	Settings     map[string]string     `yaml:"settings" doc:"repository.setting: value"`
}

type expectForm struct {
	That    string            `yaml:"that" doc:"what is expected, in a sentence for people" need:"yes"`
	To      oneOrMany         `yaml:"to" doc:"groups, hosts, or everyone; everyone when left out"`
	Except  oneOrMany         `yaml:"except" doc:"groups or hosts that are not meant"`
	Where   string            `yaml:"where" doc:"only hosts for which this condition holds" form:"condition"`
	Host    *expectedHostForm `yaml:"host" doc:"instead: a host as it is described here, which need not be there"`
	On      oneOrMany         `yaml:"on" doc:"repositories of which the sources are on"`
	Off     oneOrMany         `yaml:"off" doc:"repositories that are kept, and off"`
	Absent  oneOrMany         `yaml:"absent" doc:"repositories that the host does not have"`
	Order   []string          `yaml:"order" doc:"repositories of which each wins over the next"`
	Choices map[string]string `yaml:"choices" doc:"channel: the choice that is followed"`
	From    map[string]string `yaml:"from" doc:"package: the repository that a host without it would take it from"`
	Lines   oneOrMany         `yaml:"lines" doc:"lines that stand in a file of the policy"`
	NoLines oneOrMany         `yaml:"no-lines" doc:"lines that stand in none"`
	Signed  *bool             `yaml:"signed" doc:"true: every source of the policy is checked, against keys that are named"`
}

type expectedHostForm struct {
	Name     string            `yaml:"name" doc:"its name; groups that list hosts by name go by it"`
	Family   string            `yaml:"family" doc:"its package manager" enum:"deb,rpm,zypp,arch" need:"yes"`
	ID       string            `yaml:"id" doc:"os.id: ID of its os-release"`
	Version  string            `yaml:"version" doc:"os.version: VERSION_ID"`
	Codename string            `yaml:"codename" doc:"os.codename: VERSION_CODENAME"`
	Arch     string            `yaml:"arch" doc:"the kernel's word; x86_64 when left out"`
	Level    *int              `yaml:"level" doc:"cpu.level"`
	Labels   map[string]string `yaml:"labels" doc:"label: value"`
	Tools    map[string]string `yaml:"tools" doc:"package tool: version"`
}

// ruleForm is what is done, or this mapping.
type ruleForm struct {
	Do       string `yaml:"do" doc:"what is done: told, or put right by itself" enum:"report,heal"`
	Severity string `yaml:"severity" doc:"its weight, where that differs" enum:"danger,fault,note"`
}

type planForm struct {
	Spread string      `yaml:"spread" doc:"a label: hosts that have one value of it never stand in one wave"`
	Soak   string      `yaml:"soak" doc:"how long is waited after each wave" form:"while"`
	Quiet  *quietForm  `yaml:"quiet" doc:"hours in which no host begins, by its own clock"`
	Limits *limitsForm `yaml:"limits" doc:"how many hosts of a wave each gate lets pass: a number, a share as 5 %, or none"`
	Waves  []waveForm  `yaml:"waves" doc:"who is changed after whom" need:"yes"`
}

type siteForm struct {
	Title       string            `yaml:"title" doc:"for people"`
	Mirrors     map[string]string `yaml:"mirrors" doc:"beginning of upstream's URLs: what takes its place at the site"`
	Metalinks   map[string]string `yaml:"metalinks" doc:"metalink of a section of the distribution's own, as it is written: base URL at the site"`
	Mirrorlists map[string]string `yaml:"mirrorlists" doc:"list of mirrors of such a section, as it is written: base URL at the site"`
	Proxy       string            `yaml:"proxy" doc:"the proxy that its hosts go through to what has no mirror there"`
	FallBack    bool              `yaml:"fall-back" doc:"upstream is tried where the mirror does not answer"`
}

type quietForm struct {
	From  string `yaml:"from" doc:"time of the day at which they begin" form:"clock" need:"yes"`
	Until string `yaml:"until" doc:"time of the day at which they end" form:"clock" need:"yes"`
}

type limitsForm struct {
	Failed      string `yaml:"failed" doc:"hosts that could not be changed; 5 % when left out" form:"limit"`
	Silent      string `yaml:"silent" doc:"hosts that give no sign of life; 20 % when left out" form:"limit"`
	Unrefreshed string `yaml:"unrefreshed" doc:"hosts of which a source could not be refreshed; none when left out" form:"limit"`
	Drifted     string `yaml:"drifted" doc:"hosts that drifted after the change; none when left out" form:"limit"`
	Refused     string `yaml:"refused" doc:"hosts to which it would bring places of packages that are refused; 0 when left out" form:"limit"`
}

type waveForm struct {
	To      oneOrMany `yaml:"to" doc:"groups or hosts"`
	Hosts   *int      `yaml:"hosts" doc:"so many hosts"`
	Share   string    `yaml:"share" doc:"a share of all hosts that follow the plan, as 10 %" form:"share"`
	Rest    *bool     `yaml:"rest" doc:"all hosts that no wave before took"`
	Soak    string    `yaml:"soak" doc:"how long is waited after it, where that differs" form:"while"`
	Consent *bool     `yaml:"consent" doc:"somebody else than who began the rollout must agree before it"`
}

// followForm is the name of a choice, or this mapping.
type followForm struct {
	Follow   string   `yaml:"follow" doc:"the choice that is followed" need:"yes"`
	Variants []string `yaml:"variants" doc:"variants that are wanted as well" enum:"debug,source"`
}

type decisionForm struct {
	Because string `yaml:"because" doc:"why" need:"yes"`
	Author  string `yaml:"author" doc:"who decided" need:"yes"`
	Review  string `yaml:"review" doc:"day on which it is looked at again" form:"day" need:"yes"`
}

// oneOrMany is a name, or a list of names.
type oneOrMany []string

// keysOf lists the keys of a form, in its order.
func keysOf[T any]() []string { return keysIn(reflect.TypeFor[T](), nil) }

func keysIn(t reflect.Type, out []string) []string {
	for i := range t.NumField() {
		f := t.Field(i)
		if f.Anonymous {
			out = keysIn(f.Type, out)
		} else if key := f.Tag.Get("yaml"); key != "*" {
			out = append(out, key)
		}
	}
	return out
}

// enumOf lists the values that there are for a key of a form.
func enumOf[T any](key string) []string {
	t := reflect.TypeFor[T]()
	for i := range t.NumField() {
		if f := t.Field(i); f.Tag.Get("yaml") == key {
			return strings.Split(f.Tag.Get("enum"), ",")
		}
	}
	return nil
}
