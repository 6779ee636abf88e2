package exact

import (
	"encoding/json"
	"reflect"
	"testing"
)

type inner struct {
	Name string `json:"name"`
}

type outer struct {
	Sub   string           `json:"sub"`
	Inner inner            `json:"inner"`
	List  []inner          `json:"list"`
	Named map[string]inner `json:"named"`
	Raw   json.RawMessage  `json:"raw"`
	Plain string
}

func TestUnmarshal(t *testing.T) {
	for text, ok := range map[string]bool{
		`{"sub": "a", "inner": {"name": "b"}, "list": [{"name": "c"}], "named": {"Sub": {"name": "d"}, "sub": {"name": "e"}}, "other": ` +
			`{"x": 1}}`: true,
		`{"Sub": "a"}`: false, `{"ſub": "a"}`: false, `{"sub": "a", "Sub": "b"}`: false, `{"sub": "a", "sub": "a"}`: false,
		`{"sub": "a", "\u0073ub": "b"}`: false, `{"plain": "x"}`: false, `{"Plain": "x"}`: true,
		`{"inner": {"NAME": "b"}}`: false, `{"list": [{"name": "c"}, {"name": "c", "name": "d"}]}`: false,
		`{"named": {"x": {"Name": "d"}}}`: false, `{"named": {"x": {}, "x": {}}}`: false,
		`{"other": {"x": 1, "x": 2}}`: false, `{"raw": {"x": 1, "x": 2}}`: false, `{"raw": {"Sub": 1, "sub": 2}}`: true, `{} {}`: false,
		`{}x`: false, `{"sub": }`: false, ``: false, `{"sub"`: false, `[`: false, `null`: true,
	} {
		var into outer
		if err := Unmarshal([]byte(text), &into); (err == nil) != ok {
			t.Errorf("%s: %v", text, err)
		}
	}
	var into outer
	if err := UnmarshalKnown([]byte(`{"other": 1}`), &into); err == nil {
		t.Error("a member that is not known")
	}
	deep := ""
	for range 100 {
		deep += "["
	}
	if err := Unmarshal([]byte(deep), new(any)); err == nil {
		t.Error("too deep")
	}
}

// What is taken is what package json reads too, and says nothing twice.
func FuzzUnmarshal(f *testing.F) {
	for _, seed := range []string{`{"sub": "a", "inner": {"name": "b"}}`, `{"Sub": "a"}`, `{"sub": "a", "ſub": "b"}`, `[{"sub": 1}]`,
		`{"named": {"a": {"name": "x"}}}`} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		var into outer
		if Unmarshal([]byte(text), &into) != nil {
			return
		}
		var again outer
		if err := json.Unmarshal([]byte(text), &again); err != nil || !reflect.DeepEqual(into, again) {
			t.Errorf("%q: %v", text, err)
		}
		var all map[string]any
		if json.Unmarshal([]byte(text), &all) == nil {
			if sub, _ := all["sub"].(string); sub != into.Sub {
				t.Errorf("%q: %q, and %q for whoever reads exactly", text, into.Sub, sub)
			}
		}
	})
}
