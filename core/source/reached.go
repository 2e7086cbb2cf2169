package source

import (
	"cmp"
	"math"
	"slices"
	"strconv"
	"strings"
)

// Reached are the URLs that a source of the sheet gets packages from: those of a list of mirrors in the place of the list,
// where that is a file of the sheet. list is the list that it goes by from elsewhere, or that the sheet does not hold.
func (s *Sheet) Reached(x *SheetSource) (urls []string, list string) {
	of := Source{Family: cmp.Or(x.Family, s.Family), EffURLs: x.URLs, Mirrorlist: x.Mirrorlist}
	return of.Reached(s.Lines)
}

// Lines are those of a file of the sheet that say something; none where the sheet has no such file.
func (s *Sheet) Lines(file string) []string {
	for i := range s.Files {
		if s.Files[i].Path == file {
			return Listed([]byte(s.Files[i].Text))
		}
	}
	return nil
}

// Reached are the effective URLs that a source gets packages from: those of a list of mirrors on the host in the place of
// the list. lines gives the lines of such a file, none for one that is not known. list is the list that it goes by
// from elsewhere, or of which nothing is known. They stand in the order in which they are asked: dnf asks those of a list
// before base URLs, and no list beside a metalink. zypper asks none beside a base URL, so what stands in it is left out there.
func (s *Source) Reached(lines func(file string) []string) (urls []string, list string) {
	if s.Mirrorlist == "" && !slices.ContainsFunc(s.EffURLs, isMirrorList) {
		return s.EffURLs, ""
	}
	for _, u := range s.EffURLs {
		urls = append(urls, ReachedBy(s.Family, u, lines)...)
	}
	switch {
	case s.Mirrorlist == "", s.Family == FamilyRpm && s.Metalink != "":
		return urls, ""
	case s.Family == FamilyZypp && len(urls) > 0:
		return urls, s.Mirrorlist
	}
	if x := (&Source{Family: s.Family, Mirrorlist: s.Mirrorlist}).MirrorFiles(); len(x) == 1 {
		if more := listedURLs(lines(x[0])); len(more) > 0 {
			return append(more, urls...), ""
		}
	}
	return urls, s.Mirrorlist
}

// ReachedBy are the URLs that one effective URL of a source of a family comes to, as Reached has it.
func ReachedBy(family, url string, lines func(file string) []string) []string {
	if x := (&Source{Family: family, EffURLs: []string{url}}).MirrorFiles(); len(x) == 1 {
		if more := listedURLs(lines(x[0])); len(more) > 0 {
			return more
		}
	}
	return []string{url}
}

// MirrorLines are what a list of mirrors on the host holds, as the survey tells; none for one that it does not tell of.
func (s *Survey) MirrorLines(file string) []string {
	for i := range s.Files {
		if s.Files[i].Path == file {
			return s.Files[i].Mirrors
		}
	}
	return nil
}

// isMirrorList reports whether a URL is a list of mirrors on the host.
func isMirrorList(url string) bool { return strings.HasPrefix(url, "mirror+") }

// listedURLs are the URLs of the lines of a list of mirrors, in the order in which they are tried: apt takes a lower
// priority first, and what has none last, apt-transport-mirror(1).
func listedURLs(lines []string) []string {
	var first []int // priority of each
	var out []string
	for _, text := range lines {
		words := strings.Fields(text)
		if len(words) == 0 || !IsMirror(text) {
			continue
		}
		priority := math.MaxInt
		for _, w := range words[1:] {
			if n, err := strconv.Atoi(strings.TrimPrefix(w, "priority:")); err == nil {
				priority = n
			}
		}
		at := len(first)
		for at > 0 && first[at-1] > priority {
			at--
		}
		first = slices.Insert(first, at, priority)
		out = slices.Insert(out, at, strings.TrimSuffix(words[0], "repodata/repomd.xml"))
	}
	return out
}
