package source

import (
	"slices"
	"strings"
)

// optionTouches is what the options of single sources touch, of every family. An option of
// which the table says nothing is taken to matter; one with an empty list changes nothing of
// where packages come from or what is believed.
var optionTouches = map[string]map[string][]string{
	FamilyDeb: {
		"trusted": {
			TouchesTrust,
		}, "allow-insecure": {TouchesTrust}, "allow-weak": {TouchesTrust}, "allow-downgrade-to-insecure": {TouchesTrust},
		"check-valid-until": {
			TouchesTrust,
		}, "check-date": {TouchesTrust}, "valid-until-min": {TouchesTrust}, "valid-until-max": {TouchesTrust},
		"date-max-future": {TouchesTrust}, "inrelease-path": {TouchesOrigin}, "snapshot": {TouchesOrigin}, "include": {TouchesOrigin},
		"exclude": {
			TouchesOrigin,
		}, "x-repolib-name": {}, "description": {}, "lang": {}, "languages": {}, "target": {}, "targets": {}, "pdiffs": {},
		"by-hash": {}, "enabled": {},
	},
	FamilyRpm: {
		"gpgcheck": {
			TouchesTrust,
		}, "repo_gpgcheck": {TouchesTrust}, "metadata_expire": {TouchesTrust},
		"sslverify": {TouchesTransport}, "sslverifystatus": {TouchesTransport}, "sslcacert": {TouchesTransport, TouchesTrust},
		"proxy_sslverify": {TouchesTransport}, "proxy_sslcacert": {TouchesTransport, TouchesTrust}, "proxy": {TouchesTransport},
		"exclude": {TouchesOrigin}, "excludepkgs": {TouchesOrigin}, "includepkgs": {TouchesOrigin}, "cost": {TouchesOrigin},
		"module_hotfixes": {
			TouchesOrigin,
		}, "name": {}, "countme": {}, "deltarpm": {}, "deltarpm_percentage": {}, "retries": {}, "timeout": {},
		"bandwidth": {}, "throttle": {}, "minrate": {}, "ip_resolve": {}, "keepcache": {}, "enablegroups": {}, "max_parallel_downloads": {},
		"fastestmirror": {}, "metadata_expire_filter": {}, "mirrorlist_expire": {}, "type": {}, "ui_repoid_vars": {}, "failovermethod": {},
		"http_caching": {}, "skip_if_unavailable": {TouchesOrigin}, "autorefresh": {}, "mediaid": {}, "user_agent": {},
		"build_cache": {}, "enabled_metadata": {}, "keepalive": {}, "max_downloads_per_mirror": {}, "protected_packages": {},
		"ssl_check_cert_permissions": {}, "proxy_auth_method": {TouchesTransport},
	},
	FamilyZypp: {
		"gpgcheck": {
			TouchesTrust,
		}, "repo_gpgcheck": {TouchesTrust}, "pkg_gpgcheck": {TouchesTrust}, "service": {TouchesOrigin}, "path": {TouchesOrigin},
		"name": {}, "keeppackages": {}, "type": {}, "metadata_expire": {}, "mirrorlist_expire": {},
		"autorefresh": {TouchesOrigin}, "proxy": {TouchesTransport},
	},
	FamilyArch: {"usage": {TouchesOrigin}, "cacheserver": {TouchesOrigin}},
	FamilyFlatpak: {
		"gpg-verify": {
			TouchesTrust,
		}, "gpg-verify-summary": {TouchesTrust}, "sign-verify": {TouchesTrust}, "tls-permissive": {TouchesTransport},
		"tls-ca-path": {
			TouchesTransport,
			TouchesTrust,
		}, "collection-id": {TouchesTrust}, "xa.filter": {TouchesOrigin}, "xa.nodeps": {TouchesOrigin},
		"xa.main-ref": {
			TouchesOrigin,
		}, "xa.subset": {TouchesOrigin}, "xa.default-branch": {TouchesOrigin}, "xa.authenticator-name": {TouchesProgram},
		"xa.title": {}, "xa.comment": {}, "xa.description": {}, "xa.homepage": {}, "xa.icon": {}, "xa.noenumerate": {}, "xa.title-is-set": {},
		"xa.comment-is-set": {}, "xa.description-is-set": {}, "xa.homepage-is-set": {}, "xa.icon-is-set": {}, "xa.last-modified": {},
		"xa.summary-is-set": {}, "xa.filter-is-set": {}, "url-is-set": {}, "xa.gpg-keys-is-set": {}, "xa.authenticator-name-is-set": {},
	},
}

// OptionTouches says what an option of a single source touches; nil where it changes nothing
// of where packages come from or what is believed. An unknown one may touch anything.
func OptionTouches(family, name string) []string {
	lower := strings.ToLower(name)
	touches, known := optionTouches[family][lower]
	if family == FamilyDeb && strings.HasPrefix(lower, "x-") { // somebody's own field, which apt does not know
		return nil
	}
	if known {
		return touches
	}
	if _, elsewhere := settingsOnly.of(family, lower); elsewhere {
		return nil
	}
	return []string{TouchesOrigin}
}

// SameOption reports whether an option comes to the same among the options of two sources, the first as it is wanted:
// another spelling of a yes or no, other spaces, what holds anyway under the host's settings, or an option that changes
// nothing that matters.
func SameOption(family, name string, one, other map[string]string, settings []Setting) bool {
	a, b := comesTo(family, name, one), comesTo(family, name, other)
	if a == b || len(OptionTouches(family, name)) == 0 {
		return true
	}
	a, b = comesTo(family, name, orDefault(family, name, one, settings)), comesTo(family, name, orDefault(family, name, other, settings))
	if a == b {
		return true
	}
	norm := func(v string) string {
		if on, ok := Truth(family, strings.TrimSpace(v)); ok {
			return map[bool]string{true: "yes", false: "no"}[on]
		}
		return strings.Join(
			strings.FieldsFunc(strings.ToLower(v), func(r rune) bool { return r == ' ' || r == ',' || r == '\t' || r == '\n' }),
			" ",
		)
	}
	if strings.EqualFold(name, "metadata_expire") { // how often matters little, never does
		never := func(v string) bool { return v == "-1" || strings.EqualFold(v, "never") }
		return never(a) == never(b)
	}
	if family == FamilyArch && strings.EqualFold(name, "usage") {
		return SameSet(uses(a), uses(b))
	}
	if family == FamilyZypp && strings.EqualFold(name, "autorefresh") { // what is not fetched anew stays behind
		return !IsOn(family, a) || IsOn(family, b)
	}
	return norm(a) == norm(b)
}

// comesTo is the value of an option; of one that takes a check away, in whatever words, what it takes.
func comesTo(family, name string, options map[string]string) string {
	value, said := options[name]
	if says := takesAway(family, name, value); said && says != "" {
		return says
	}
	return value
}

// Says is the value of an option among those of a source, for people to read.
func Says(options map[string]string, name string) string {
	value, said := options[name]
	if said && value == "" {
		return "(empty)"
	}
	return value
}

// switches are options of which Checks tells what they come to.
var switches = []string{
	"trusted",
	"allow-insecure",
	"gpgcheck",
	"repo_gpgcheck",
	"pkg_gpgcheck",
	"gpg-verify",
	"gpg-verify-summary",
	"siglevel",
}

// OptionSwitches reports whether what an option comes to is told by the checks of a source.
func OptionSwitches(name string) bool { return slices.Contains(switches, strings.ToLower(name)) }

// keeps are options and settings that the holds of a survey tell.
var keeps = []string{"exclude", "excludepkgs", "includepkgs", "ignorepkg", "ignoregroup", "holdpkg"}

// OptionKeeps reports whether an option or setting is one that the holds tell.
func OptionKeeps(name string) bool {
	return slices.Contains(keeps, strings.ToLower(name[strings.LastIndexAny(name, ".:")+1:]))
}

// OptionWeakens reports whether an option takes a check away, as it stands among those of a source.
func OptionWeakens(family, name string, options map[string]string) bool {
	value, said := options[name]
	if !said {
		return false
	}
	s := Source{Family: family, Options: map[string]string{name: value}}
	return len(s.Weakened(nil)) > 0 || family == FamilyDeb && s.OwnTrust()
}

// SameWay reports whether two sources are fetched and checked alike, as far as their options say under the host's settings.
func SameWay(a, b *Source, settings []Setting) bool {
	for _, x := range []struct{ one, other *Source }{{a, b}, {b, a}} {
		for name := range x.one.Options {
			if strings.EqualFold(name, "autorefresh") { // when, not how
				continue
			}
			if len(OptionTouches(a.Family, name)) > 0 && !SameOption(a.Family, name, x.one.Options, x.other.Options, settings) {
				return false
			}
		}
	}
	return true
}
