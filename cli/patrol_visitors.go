package cli

import (
	"encoding/base64"
	"fmt"
	"net/http"
	"os"
	"slices"

	"github.com/goccy/go-yaml"

	"ostiarius/core/policy"
	"ostiarius/patrol"
)

// readVisitors reads the credentials of visitors for a site that has none of ours:
//
//	visitors:
//	  - { as: member, cookies: { session: 5f2c... } }
//	  - { as: editor, basic: { user: ines, password: ... } }
//	  - { as: program, fields: { Authorization: Bearer ... } }
//
// Errors name what is wrong, and never a secret.
func readVisitors(file string) ([]patrol.Visitor, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("the visitors can't be read: %w", err)
	}
	var read struct {
		Visitors []struct {
			As      string            `yaml:"as"`
			Cookies map[string]string `yaml:"cookies"`
			Fields  map[string]string `yaml:"fields"`
			Basic   *struct {
				User     string `yaml:"user"`
				Password string `yaml:"password"`
			} `yaml:"basic"`
		} `yaml:"visitors"`
	}
	if err := yaml.UnmarshalWithOptions(text, &read, yaml.Strict()); err != nil {
		return nil, fmt.Errorf("%s isn't a list of visitors; use visitors: [ { as: member, cookies: { NAME: VALUE } } ], with basic: { "+
			"user, password } or fields: likewise", file)
	}
	var all []patrol.Visitor
	for i, r := range read.Visitors {
		if r.As == "" || len(r.Cookies)+len(r.Fields) == 0 && r.Basic == nil {
			return nil, fmt.Errorf("%s: visitor %d has no name (as), or nothing to show: cookies, basic or fields", file, i+1)
		}
		if slices.ContainsFunc(all, func(v patrol.Visitor) bool { return v.Who == r.As }) {
			return nil, fmt.Errorf("%s: %s is listed twice", file, r.As)
		}
		v := patrol.Visitor{Who: r.As, Fields: http.Header{}}
		v.As, _ = policy.ParseVisitor(r.As) // for a policy, if it is in the notation for visitors
		for name, value := range r.Cookies {
			v.Cookies = append(v.Cookies, &http.Cookie{Name: name, Value: value})
		}
		for name, value := range r.Fields {
			v.Fields.Set(name, value)
		}
		if r.Basic != nil {
			v.Fields.Set("Authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte(r.Basic.User+":"+r.Basic.Password)))
		}
		all = append(all, v)
	}
	if len(all) == 0 {
		return nil, fmt.Errorf("%s has no visitors", file)
	}
	return all, nil
}
