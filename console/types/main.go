// Types prints the types of the administration API in TypeScript, made of its description, for the
// console: go run ./console/types > console/src/schema.ts
package main

import (
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
)

const description = "service/api/openapi.yaml"

func main() {
	text, err := os.ReadFile(description)
	if err != nil {
		fmt.Fprintln(os.Stderr, "types: run it from the root of the repository:", err)
		os.Exit(1)
	}
	out, err := typesOf(text)
	if err != nil {
		fmt.Fprintln(os.Stderr, "types:", err)
		os.Exit(1)
	}
	fmt.Print(out)
}

// A schema is as much of one as the description uses.
type schema struct {
	Ref                  string `yaml:"$ref"`
	Type                 any
	Enum                 []string
	Description          string
	Required             []string
	Properties           yaml.MapSlice
	Items                *schema
	AdditionalProperties any `yaml:"additionalProperties"`
}

// typesOf returns the schemas of a description as interfaces of TypeScript, by name. The error names what
// cannot be said.
func typesOf(text []byte) (string, error) {
	var document struct {
		Components struct{ Schemas map[string]schema }
	}
	if err := yaml.Unmarshal(text, &document); err != nil {
		return "", err
	}
	var b strings.Builder
	fmt.Fprintf(&b, "// Made of %s by console/types; change that, not this.\n", description)
	for _, name := range slices.Sorted(maps.Keys(document.Components.Schemas)) {
		s := document.Components.Schemas[name]
		fmt.Fprintf(&b, "\nexport interface %s {\n", name)
		for _, item := range s.Properties {
			field := fmt.Sprint(item.Key)
			property, err := read(item.Value)
			if err != nil {
				return "", fmt.Errorf("%s.%s: %w", name, field, err)
			}
			kind, err := kindOf(property)
			if err != nil {
				return "", fmt.Errorf("%s.%s: %w", name, field, err)
			}
			if property.Description != "" {
				fmt.Fprintf(&b, "  /** %s */\n", strings.ReplaceAll(property.Description, "*/", "* /"))
			}
			optional := "?"
			if slices.Contains(s.Required, field) {
				optional = ""
			}
			fmt.Fprintf(&b, "  %s%s: %s;\n", field, optional, kind)
		}
		b.WriteString("}\n")
	}
	return b.String(), nil
}

// read makes a schema of what stands in the document.
func read(value any) (*schema, error) {
	var s schema
	text, err := yaml.Marshal(value)
	if err == nil {
		err = yaml.Unmarshal(text, &s)
	}
	return &s, err
}

func kindOf(s *schema) (string, error) {
	if s.Ref != "" {
		return s.Ref[strings.LastIndex(s.Ref, "/")+1:], nil
	}
	if either, ok := s.Type.([]any); ok {
		if len(either) != 2 || either[1] != "null" {
			return "", fmt.Errorf("the type %v is none of ours", either)
		}
		bare := *s
		bare.Type = either[0]
		kind, err := kindOf(&bare)
		return kind + " | null", err
	}
	switch s.Type {
	case "string":
		if len(s.Enum) > 0 {
			return `"` + strings.Join(s.Enum, `" | "`) + `"`, nil
		}
		return "string", nil
	case "integer", "number":
		return "number", nil
	case "boolean":
		return "boolean", nil
	case "array":
		if s.Items == nil {
			break
		}
		kind, err := kindOf(s.Items)
		if strings.Contains(kind, " ") {
			kind = "(" + kind + ")"
		}
		return kind + "[]", err
	case "object":
		if s.AdditionalProperties != nil && s.AdditionalProperties != false {
			each, err := read(s.AdditionalProperties)
			if err != nil {
				return "", err
			}
			kind, err := kindOf(each)
			return "Record<string, " + kind + ">", err
		}
		if len(s.Properties) > 0 {
			var fields []string
			for _, item := range s.Properties {
				property, err := read(item.Value)
				if err != nil {
					return "", err
				}
				kind, err := kindOf(property)
				if err != nil {
					return "", err
				}
				optional := "?"
				if slices.Contains(s.Required, fmt.Sprint(item.Key)) {
					optional = ""
				}
				fields = append(fields, fmt.Sprintf("%v%s: %s", item.Key, optional, kind))
			}
			return "{ " + strings.Join(fields, "; ") + " }", nil
		}
	}
	return "", fmt.Errorf("a schema of type %v cannot be told in TypeScript; describe what it has", s.Type)
}
