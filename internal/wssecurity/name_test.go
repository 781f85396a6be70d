package wssecurity

import (
	"encoding/asn1"
	"encoding/hex"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// part is one attribute of a name: its number, the tag of its text, and that.
type part struct {
	id   asn1.ObjectIdentifier
	tag  int
	text string
}

var (
	country      = asn1.ObjectIdentifier{2, 5, 4, 6}
	organisation = asn1.ObjectIdentifier{2, 5, 4, 10}
	unit         = asn1.ObjectIdentifier{2, 5, 4, 11}
	common       = asn1.ObjectIdentifier{2, 5, 4, 3}
	serial       = asn1.ObjectIdentifier{2, 5, 4, 5}
	mail         = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 1}
	domain       = asn1.ObjectIdentifier{0, 9, 2342, 19200300, 100, 1, 25}
)

// encodedName is a name of sets of parts.
func encodedName(t *testing.T, sets ...[]part) []byte {
	t.Helper()
	var name []attributeSET
	for _, set := range sets {
		var attributes attributeSET
		for _, p := range set {
			full, err := asn1.Marshal(asn1.RawValue{Tag: p.tag, Bytes: []byte(p.text)})
			require.NoError(t, err)
			attributes = append(attributes, attribute{p.id, asn1.RawValue{FullBytes: full}})
		}
		name = append(name, attributes)
	}
	raw, err := asn1.Marshal(name)
	require.NoError(t, err)
	return raw
}

// authorities are names as five authorities and more write them.
func authorities(t *testing.T) map[string][]byte {
	t.Helper()
	return map[string][]byte{
		"usual": encodedName(t, []part{{country, asn1.TagPrintableString, "GB"}},
			[]part{{organisation, asn1.TagUTF8String, "Heatherfold Honey Co-operative"}}, []part{{
				common,
				asn1.TagUTF8String, "Comb CA",
			}}),
		"other way round": encodedName(t, []part{{common, asn1.TagUTF8String, "Comb CA"}},
			[]part{{organisation, asn1.TagUTF8String, "Honey"}}, []part{{country, asn1.TagPrintableString, "GB"}}),
		"mail": encodedName(t, []part{{organisation, asn1.TagPrintableString, "Honey"}},
			[]part{{mail, asn1.TagIA5String, "ca@heatherfold.example"}}),
		"domains": encodedName(t, []part{{domain, asn1.TagIA5String, "example"}},
			[]part{{domain, asn1.TagIA5String, "heatherfold"}},
			[]part{{common, asn1.TagUTF8String, "Åsa's \"best\", #1 + <2>; a\\b = c"}}),
		"several in one": encodedName(t,
			[]part{{unit, asn1.TagUTF8String, " #comb "}, {serial, asn1.TagPrintableString, "41"}},
			[]part{{common, asn1.TagT61String, "H\xf6ghult"}}),
		"wide letters": encodedName(t, []part{{common, asn1.TagBMPString, "\x00H\x00\xf6\x00g"}}),
	}
}

// Names are written by RFC 2253 from what the certificate holds, and are known however others write them.
func TestNames(t *testing.T) {
	all := authorities(t)
	for name, want := range map[string]string{
		"usual":           "CN=Comb CA,O=Heatherfold Honey Co-operative,C=GB",
		"other way round": "C=GB,O=Honey,CN=Comb CA",
		"mail":            "1.2.840.113549.1.9.1=#1616" + hex.EncodeToString([]byte("ca@heatherfold.example")) + ",O=Honey",
		"domains":         `CN=Åsa's \"best\"\, #1 \+ \<2\>\; a\\b \= c,DC=heatherfold,DC=example`,
		"several in one":  `CN=Höghult,2.5.4.5=#13023431+OU=\ #comb\ `,
		"wide letters":    "CN=Hög",
	} {
		got, err := distinguishedName(all[name])
		require.NoError(t, err)
		assert.Equal(t, want, got, name)
		assert.True(t, sameName(all[name], got), name)
		assert.False(t, sameName(all[name], got+",C=SE"), name)
	}
	for _, c := range []struct {
		of, text string
		want     bool
	}{
		{"mail", "O=Honey, EMAILADDRESS=ca@heatherfold.example", true},
		{"mail", "E = ca@heatherfold.example; O = honey", true},
		{"mail", "OID.1.2.840.113549.1.9.1=ca@heatherfold.example,O=Honey", true},
		{"mail", "O=Honey", false},
		{"usual", `C=GB, O="Heatherfold  Honey Co-operative", CN=comb ca`, true},
		{"usual", "CN=Comb CA,O=Other,C=GB", false},
		{"domains", `CN="Åsa's \"best\", #1 + <2>; a\\b = c", DC=heatherfold, DC=example`, true},
		{"several in one", `CN=H\C3\B6ghult,SERIALNUMBER=41+OU=\20#comb\20`, true},
		{"wide letters", "", false},
	} {
		assert.Equal(t, c.want, sameName(all[c.of], c.text), fmt.Sprint(c))
	}
	_, err := distinguishedName([]byte{1})
	assert.ErrorContains(t, err, "the name in the certificate cannot be read")
	assert.False(t, sameName([]byte{1}, "CN=a"))
}
