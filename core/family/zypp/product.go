package zypp

import (
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"slices"
	"strings"
	"unicode/utf8"
)

// product is the version of the base product, which is the release; empty where libzypp makes
// none of the file.
func (r *reader) product() string {
	text, err := r.root.ReadText(baseProduct)
	if err != nil {
		return ""
	}
	version, err := productVersion(text)
	if err != nil {
		return ""
	}
	return version
}

var (
	errProduct = errors.New("no product that libzypp understands")

	// needed must stand in a product; these and the vendor no more than once.
	needed = []string{"name", "version", "release", "arch"}
	single = append([]string{"vendor"}, needed...)
)

// productVersion reads the version out of a file of a product as libzypp does (ProductFileReader):
// of each element the last piece of text counts, blanks and all, and a file that is not well
// formed to its end says nothing.
func productVersion(text []byte) (string, error) {
	text, err := undeclared(text)
	if err != nil {
		return "", err
	}
	d := xml.NewDecoder(bytes.NewReader(text))
	var open []string
	has, begun := map[string]string{}, false
	for {
		begins := d.InputOffset()
		token, err := d.RawToken()
		switch {
		case errors.Is(err, io.EOF) && len(open) == 0:
			return releaseOf(has)
		case err != nil:
			return "", err
		}
		switch t := token.(type) {
		case xml.StartElement:
			if len(open) == 0 && (t.Name.Local != "product" || t.Name.Space != "" || begun) || twice(t.Attr) {
				return "", errProduct
			}
			open = append(open, t.Name.Space+":"+t.Name.Local)
			if name := element(open); slices.Contains(single, name) {
				if _, there := has[name]; there {
					return "", errProduct
				}
				has[name] = ""
			}
			begun = true
		case xml.ProcInst:
			if strings.EqualFold(t.Target, "xml") { // it begins a text, and stands nowhere else
				return "", errProduct
			}
		case xml.EndElement:
			if len(open) == 0 || open[len(open)-1] != t.Name.Space+":"+t.Name.Local {
				return "", errProduct
			}
			open = open[:len(open)-1]
		case xml.CharData:
			switch name := element(open); {
			case len(open) == 0 && len(bytes.TrimSpace(t)) > 0:
				return "", errProduct
			case slices.Contains(needed, name) && !bytes.HasPrefix(text[begins:], []byte("<![CDATA[")):
				has[name] = string(t)
			}
		}
	}
}

// element is the name of an element that stands directly in the product; empty for others.
func element(open []string) string {
	if len(open) != 2 {
		return ""
	}
	return strings.TrimPrefix(open[1], ":")
}

// twice reports whether an attribute is given twice.
func twice(attrs []xml.Attr) bool {
	seen := map[xml.Name]bool{}
	for _, a := range attrs {
		if seen[a.Name] {
			return true
		}
		seen[a.Name] = true
	}
	return false
}

// releaseOf is the version of a product that has all that it must have: what stands between an epoch
// and the last - of "version-release".
func releaseOf(has map[string]string) (string, error) {
	for _, name := range needed {
		if _, there := has[name]; !there {
			return "", errProduct
		}
	}
	edition := has["version"]
	if has["release"] != "" {
		edition += "-" + has["release"]
	}
	if epoch, rest, ok := strings.Cut(edition, ":"); ok && strings.Trim(epoch, "0123456789") == "" {
		edition = rest
	}
	if dash := strings.LastIndexByte(edition, '-'); dash >= 0 {
		edition = edition[:dash]
	}
	return edition, nil
}

// undeclared takes the declaration off the front of a text: libxml2 goes by any version, and by
// more encodings than Go does.
func undeclared(text []byte) ([]byte, error) {
	text = bytes.TrimPrefix(text, []byte("\ufeff"))
	if !bytes.HasPrefix(text, []byte("<?xml ")) {
		return text, nil
	}
	declared, rest, ok := bytes.Cut(text, []byte("?>"))
	if !ok {
		return nil, errProduct
	}
	_, encoding, ok := strings.Cut(string(declared), "encoding=")
	if !ok {
		return rest, nil
	}
	switch encoding = strings.ToLower(strings.Trim(encoding, " \t\r\n\"'")); {
	case encoding == "utf-8", encoding == "us-ascii", encoding == "ascii":
		return rest, nil
	case strings.HasPrefix(encoding, "iso-8859-"), strings.HasPrefix(encoding, "windows-125"):
		if utf8.Valid(rest) { // libzypp makes nothing of the others
			return rest, nil
		}
	}
	return nil, errProduct
}
