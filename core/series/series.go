// Package series says which versions belong to a series of versions, as 1.44, and how each
// package manager is told to pass all others over.
package series

import (
	"fmt"
	"math/big"
	"regexp"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/text/pattern"
)

// Series is the beginning that versions have in common: 1.44 stands for 1.44, 1.44.2 and
// 1.44-3, and not for 1.440.
type Series struct {
	Version string
	Epoch   int // rpm's; apt's versions are held in any
}

var form = pattern.Lazy(`^(?:([0-9]):)?([0-9][0-9A-Za-z.+~_]{0,62})$`)

// Of reads a series. The error says what is wrong with it.
func Of(text string) (Series, error) {
	m := form().FindStringSubmatch(text)
	if m == nil {
		return Series{}, fmt.Errorf(
			"%q is no beginning of a version: write it as 1.44, or 1:1.44 where rpm has an epoch, without a release",
			text,
		)
	}
	epoch, _ := strconv.Atoi(m[1]) // a digit, or nothing
	return Series{m[2], epoch}, nil
}

// more are the characters with which a version would go on to be of another series: 1.440.
func (s Series) more() string {
	if c := s.Version[len(s.Version)-1]; c >= '0' && c <= '9' {
		return "0-9"
	}
	return "A-Za-z"
}

// Holds reports whether a version, with or without epoch and release, belongs to the series.
func (s Series) Holds(version string) bool {
	if _, rest, epoch := strings.Cut(version, ":"); epoch {
		version = rest
	}
	rest, of := strings.CutPrefix(version, s.Version)
	if !of {
		return false
	}
	if rest == "" {
		return true
	}
	c := rest[0]
	if s.more() == "0-9" {
		return c < '0' || c > '9'
	}
	return (c < 'a' || c > 'z') && (c < 'A' || c > 'Z')
}

// Others is an extended regular expression (POSIX) for every version that is not of the
// series, as apt writes versions: with an epoch where there is one, and a revision.
func (s Series) Others() string {
	var ways []string
	for i, c := range s.Version {
		ways = append(ways, regexp.QuoteMeta(s.Version[:i])+"([^"+string(c)+":][^:]*)?")
	}
	ways = append(ways, regexp.QuoteMeta(s.Version)+"["+s.more()+"][^:]*")
	return "^([0-9]+:)?(" + strings.Join(ways, "|") + ")$"
}

// Beyond is the least version, as rpm compares, above all of the series: for 1.44 that is 1.45 with
// everything that comes before it.
func (s Series) Beyond() string {
	v := strings.TrimRight(s.Version, ".+_")
	if early, is := strings.CutSuffix(v, "~"); is {
		v = early // what comes before a version is below it
	} else if last := v[len(v)-1]; last < '0' || last > '9' {
		v += "A" // longer words of letters
	} else {
		head := strings.TrimRight(v, "0123456789")
		n, _ := new(big.Int).SetString(v[len(head):], 10)
		v = head + n.Add(n, big.NewInt(1)).String() + "~~"
	}
	if s.Epoch > 0 {
		v = strconv.Itoa(s.Epoch) + ":" + v
	}
	return v
}

// mostEpoch is the highest epoch that is passed over.
const mostEpoch = 9

// OtherBuilds are dnf's patterns (NAME-EPOCH:VERSION-RELEASE.ARCHITECTURE) for every build of
// a package that is not of the series. Each says its epoch: dnf takes one that fits no build
// for the name of a package, and no name has a colon.
func (s Series) OtherBuilds(name string) (out []string) {
	say := func(epoch int, version string) { out = append(out, fmt.Sprintf("%s-%d:%s-*.*", name, epoch, version)) }
	for i, c := range s.Version {
		if i > 0 {
			say(s.Epoch, s.Version[:i])
		}
		say(s.Epoch, s.Version[:i]+"[!"+string(c)+"]*")
	}
	say(s.Epoch, s.Version+"["+s.more()+"]*")
	for epoch := range mostEpoch + 1 {
		if epoch != s.Epoch {
			say(epoch, "*")
		}
	}
	return out
}
