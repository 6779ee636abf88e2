package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
	"github.com/spf13/pflag"
)

// fromFile sets the flags that neither the command line nor a variable has set from a settings
// file, unless its name is "": a mapping in YAML from the names of flags to their values. The
// flags in paths are relative to the directory of the file. The error says where in the file.
func fromFile(flags *pflag.FlagSet, name string, paths ...string) error {
	if name == "" {
		return nil
	}
	text, err := os.ReadFile(name)
	if err != nil {
		return errUsage{fmt.Errorf("the settings can't be read: %w", err)}
	}
	wrong := func(at *token.Token, format string, args ...any) error {
		where := name
		if at != nil && at.Position != nil {
			where = fmt.Sprintf("%s:%d:%d", name, at.Position.Line, at.Position.Column)
		}
		return errUsage{fmt.Errorf("%s: %w", where, fmt.Errorf(format, args...))}
	}
	file, err := parser.ParseBytes(text, 0)
	var syntax yaml.Error
	switch {
	case errors.As(err, &syntax):
		return wrong(syntax.GetToken(), "%s", syntax.GetMessage())
	case err != nil:
		return wrong(nil, "%w", err)
	}
	for _, document := range file.Docs {
		if document.Body == nil {
			continue
		}
		settings, ok := document.Body.(*ast.MappingNode)
		if !ok {
			return wrong(document.Body.GetToken(), "settings must have the form listen: localhost:8460")
		}
		for _, s := range settings.Values {
			key := s.Key.GetToken()
			f := flags.Lookup(key.Value)
			if f == nil || f.Name == "settings" || f.Name == "help" {
				return wrong(key, "there is no setting %q", key.Value)
			}
			values, ok := scalars(s.Value)
			list, several := f.Value.(pflag.SliceValue)
			if !ok || len(values) != 1 && !several {
				return wrong(s.Value.GetToken(), "%s takes %s", f.Name, map[bool]string{true: "a list of values", false: "one value"}[several])
			}
			if slices.Contains(paths, f.Name) && !filepath.IsAbs(values[0]) {
				values[0] = filepath.Join(filepath.Dir(name), values[0])
			}
			switch {
			case f.Changed:
			case several:
				err = list.Replace(values)
			default:
				err = f.Value.Set(values[0])
			}
			if err != nil {
				return wrong(s.Value.GetToken(), "%s: %q is not %s", f.Name, values[0], f.Value.Type())
			}
		}
	}
	return nil
}

// scalars returns the text of a value, or of each value in a list.
func scalars(n ast.Node) (values []string, ok bool) {
	if list, ok := n.(*ast.SequenceNode); ok {
		for _, v := range list.Values {
			if _, ok := v.(ast.ScalarNode); !ok || v.Type() == ast.NullType {
				return nil, false
			}
			values = append(values, v.GetToken().Value)
		}
		return values, true
	}
	if _, ok := n.(ast.ScalarNode); !ok || n.Type() == ast.NullType {
		return nil, false
	}
	return []string{n.GetToken().Value}, true
}
