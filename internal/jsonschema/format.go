package jsonschema

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"math/big"
	"strings"

	js "github.com/santhosh-tekuri/jsonschema/v6"
)

// formats are those of OpenAPI (3.0.3, 4.4.1; 3.1.0, 4.4.2), beside those of JSON
// Schema that the library knows. password and binary say nothing to check.
var formats = []*js.Format{
	{Name: "int32", Validate: within(31)},
	{Name: "int64", Validate: within(63)},
	{Name: "byte", Validate: func(v any) error {
		text, ok := v.(string)
		if !ok {
			return nil
		}
		if _, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(text), "")); err != nil {
			return errors.New("it is not Base64")
		}
		return nil
	}},
	// Many descriptions say url, which no standard defines: it is known, so that it is
	// said and sampled, and not judged.
	{Name: "url", Validate: func(any) error { return nil }},
}

// within holds numbers to so many bits beside the sign.
func within(bits uint) func(any) error {
	limit := new(big.Int).Lsh(big.NewInt(1), bits)
	return func(v any) error {
		number, ok := v.(json.Number)
		if !ok {
			return nil
		}
		r, ok := new(big.Rat).SetString(string(number))
		if !ok || !r.IsInt() {
			return errors.New("it is not a whole number")
		}
		if n := r.Num(); n.CmpAbs(limit) > 0 || n.CmpAbs(limit) == 0 && n.Sign() > 0 {
			return errors.New("it is too large")
		}
		return nil
	}
}
