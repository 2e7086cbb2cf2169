package zypp_test

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/internal/cell"
)

// N, A, R and V stand for elements that a product must have.
var parts = strings.NewReplacer("{N}", "<name>Plover</name>", "{A}", "<arch>x86_64</arch>", "{R}", "<release>0</release>", "{V}", "<version>15.3</version>")

// The release is what libzypp makes of the base product's file, and nothing where it makes nothing of it.
func TestTheReleaseIsThatOfTheRealProduct(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	var texts []string
	for _, inner := range []string{
		"{N}{A}{R}{V}", "{V}{R}{A}{N}", "{N}{A}{V}", "{N}{R}{V}", "{A}{R}{V}", "{N}{A}{R}", "{N}{A}{R}{V}{V}", "{N}{N}{A}{R}{V}", "{N}{A}{A}{R}{V}", "{N}{A}{R}{R}{V}",
		"<vendor>a</vendor><vendor>b</vendor>{N}{A}{R}{V}", "{N}{A}{R}<upgrade><version>9</version></upgrade>{V}", "{N}{A}{R}<version/>", "{N}{A}{R}<version/>{V}",
		"{N}{A}{R}<!-- <version>1</version> -->{V}", "{N}{A}{R}<version x='y'>15.3</version>", "{N}{A}{R}<version>15<!-- x -->.3</version>", "{N}{A}{R}<version>15<?x y?>.3</version>",
		"{N}{A}{R}<version><![CDATA[15.3]]></version>", "{N}{A}{R}<version>15<![CDATA[.3]]></version>", "{N}{A}{R}<version>15<x/>3</version>", "{N}{A}{R}<version>15&amp;3</version>",
		"{N}{A}{R}<version>&#49;5</version>", "{N}{A}{R}<version>15&nope;3</version>", "{N}{A}{R}<version>1:15</version>", "{N}{A}{R}<version>:15</version>", "{N}{A}{R}<version>a:15</version>",
		"{N}{A}{R}<version>15-3</version>", "{N}{A}<release/><version>15-3</version>", "{N}{A}{R}<x:version>9</x:version>{V}", "{N}{A}{R}<VERSION>9</VERSION>{V}", "<name/>{A}{R}{V}",
		"{N}{A}{R}{V}a > b", "{N}{A}{R}{V}a & b", "{N}{A}{R}{V}]]>", "{N}{A}{R}{V}\x01", "{N}{A}{R}{V}<x a=1/>", "{N}{A}{R}{V}<x a='1' a='2'/>", "{N}{A}{R}{V}<x a='<'/>", "{N}{A}{R}{V}<x>",
	} {
		texts = append(texts, "<product>"+inner+"</product>")
	}
	whole := "<product>{N}{A}{R}{V}</product>"
	for _, x := range []string{
		"%s<!-- x -->\n", "<!-- x -->%s", "%sjunk", "%s\x00", "%[1]s%[1]s", "<a>%s</a>", "\n%s", "\ufeff%s", "<?xml version=\"1.0\"?>%s", "\n<?xml version=\"1.0\"?>%s", "<?xml version=\"1.1\"?>%s",
		"<?xml version=\"1.0\" encoding=\"ISO-8859-1\"?>%s", "<!DOCTYPE product>%s",
	} {
		texts = append(texts, fmt.Sprintf(x, whole))
	}
	texts = append(texts, "", "<product", "<x:product>{N}{A}{R}{V}</x:product>", "<Product>{N}{A}{R}{V}</Product>", "<product xmlns=\"urn:x\">{N}{A}{R}{V}</product>", "<product>{N}{A}{R}{V}")
	for i, text := range texts {
		root := filepath.Join(t.TempDir(), fmt.Sprint(i))
		require.NoError(t, cell.Write(root, map[string]string{
			"etc/products.d/base.prod": parts.Replace(text), "etc/products.d/baseproduct": "-> base.prod",
			"etc/zypp/repos.d/a.repo": "[a]\nbaseurl=http://a.example/$releasever/\n",
		}))
		got, err := ours(root)
		require.NoError(t, err)
		want, err := theirs(c, root)
		require.NoError(t, err)
		assert.Equal(t, want.Facts, got.Facts, "%q", text)
	}
}
