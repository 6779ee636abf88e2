package client

import (
	"bytes"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"reflect"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/go-chi/chi/v5"
)

// fill puts something into each field that is sent. What stands in the path and the query is not easy to write there.
func fill(v reflect.Value, tag reflect.StructTag, n int) {
	switch is := v.Addr().Interface().(type) {
	case *time.Time:
		*is = time.Date(2026, 12, 1, 23, n, 0, 5, time.UTC)
		return
	case *time.Duration:
		*is = time.Duration(n+1) * time.Second
		return
	}
	switch v.Kind() {
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		fill(v.Elem(), tag, n)
	case reflect.Slice:
		if v.Type().Elem().Kind() == reflect.Uint8 {
			v.SetBytes([]byte(`{"some":["JSON"]}`))
			return
		}
		v.Set(reflect.MakeSlice(v.Type(), 2, 2))
		for i := range v.Len() {
			fill(v.Index(i), "", n+i)
		}
	case reflect.Struct:
		for i := range v.NumField() {
			fill(v.Field(i), v.Type().Field(i).Tag, n+i)
		}
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Int, reflect.Int64:
		v.SetInt(int64(n + 1))
	case reflect.String:
		v.SetString(fmt.Sprintf("a/b ç?%%2f&%d;+", n))
		if words := tag.Get("enum"); words != "" {
			v.SetString(strings.Split(words, "|")[0])
		}
	default:
		panic(v.Type())
	}
}

// through sends what an operation takes, and returns what the other side reads.
func through(o *Operation, in any) (any, error) {
	address, body, err := o.encode(in)
	if err != nil {
		return nil, err
	}
	read := reflect.New(o.In)
	err = errors.New("there is no such address")
	router := chi.NewRouter()
	router.Use(func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			r.URL.RawPath = "" // names stand in the path decoded; see the service
			next.ServeHTTP(w, r)
		})
	})
	pattern := regexp.MustCompile(`\{(\w+)\}`).ReplaceAllString(o.Path, "{$1}")
	router.MethodFunc(o.Method, pattern, func(w http.ResponseWriter, r *http.Request) {
		err = o.Decode(w, r, func(name string) string { return chi.URLParam(r, name) }, read.Interface())
	})
	router.ServeHTTP(httptest.NewRecorder(), httptest.NewRequest(o.Method, address, bytes.NewReader(body)))
	return read.Elem().Interface(), err
}

// What is sent is what is read, for each operation, with all that it can have and with nothing.
func TestSentIsRead(t *testing.T) {
	for _, o := range Operations() {
		full := reflect.New(o.In).Elem()
		fill(full, "", 0)
		for f, field := range fieldsOf(full) { // a slash in the path ends a part of it, as the service decodes it
			if f.Tag.Get("path") != "" && field.Kind() == reflect.String {
				field.SetString(strings.ReplaceAll(field.String(), "/", ""))
			}
		}
		if read, err := through(o, full.Interface()); err != nil || !reflect.DeepEqual(read, full.Interface()) {
			t.Errorf("%s %s: sent\n%+v, read\n%+v (%v)", o.Method, o.Path, full.Interface(), read, err)
		}
		bare := reflect.New(o.In).Elem()
		for f, field := range fieldsOf(bare) {
			if f.Tag.Get("path") != "" || f.Tag.Get("required") != "" {
				fill(field, f.Tag, 0)
			}
		}
		_, _, err := o.encode(bare.Interface())
		if err != nil && !strings.Contains(fmt.Sprint(o.In), "FoundByPatrol") { // nothing is no JSON
			t.Errorf("%s %s with nothing: %v", o.Method, o.Path, err)
		}
	}
}

// Operations are declared so that both sides can make something of them.
func TestOperationsAreWhole(t *testing.T) {
	seen := map[string]bool{}
	for _, o := range Operations() {
		name := o.Method + " " + o.Under + o.Path
		if seen[name] {
			t.Errorf("%s is declared twice", name)
		}
		seen[name] = true
		parts := map[string]bool{}
		for _, m := range regexp.MustCompile(`\{(\w+)\}`).FindAllStringSubmatch(o.Path, -1) {
			parts[m[1]] = true
		}
		for f := range fieldsOf(reflect.New(o.In).Elem()) {
			part, query := f.Tag.Get("path"), f.Tag.Get("query")
			_, body := f.Tag.Lookup("body")
			if (part != "" || query != "" || body) != (f.Tag.Get("json") == "-") {
				t.Errorf("%s: %s stands in two places, or in none", name, f.Name)
			}
			if part != "" && !parts[part] {
				t.Errorf("%s: %s has no place in the path", name, f.Name)
			}
			delete(parts, part)
		}
		switch looks := o.Method == http.MethodGet; {
		case len(parts) > 0:
			t.Errorf("%s: nothing fills %v", name, parts)
		case looks && !o.AtRest && o.Out == nil, o.AtRest && !looks:
			t.Errorf("%s: what only reads is asked for with GET, and answers something", name)
		case o.Under == "" && o.Method != http.MethodGet && o.Method != http.MethodPost && !o.Proof:
			t.Errorf("%s changes something without a recent proof", name)
		case o.Summary == "" || strings.HasSuffix(o.Summary, "."):
			t.Errorf("%s: %q is no summary", name, o.Summary)
		}
	}
}

// What cannot be read is said, with a status that says whose mistake it is.
func TestWhatCannotBeRead(t *testing.T) {
	for _, step := range []struct {
		op            *Operation
		address, body string
		status        int
		says          string
	}{
		{ListPeople.Operation, "/people?limit=1001", "", 422, "limit is a number from 0 to 1000"},
		{ListPeople.Operation, "/people?offset=-1", "", 422, "offset is a number from 0"},
		{ListPeople.Operation, "/people?down=yes", "", 422, "down is true or false"},
		{ListPeople.Operation, "/people?state=gone", "", 422, "state is one of enabled, disabled, never"},
		{ListActivity.Operation, "/activity?since=yesterday", "", 422, "since is a time such as"},
		{ListActivity.Operation, "/activity?before=x", "", 422, "before is a whole number"},
		{ListMembers.Operation, "/members?ending=soon", "", 422, "ending is a whole number"},
		{ShowMessage.Operation, "/messages/x", "", 404, "id is a whole number"},
		{ShowMessage.Operation, "/messages/-1", "", 404, "id is a whole number"},
		{AddPerson.Operation, "/people", ``, 400, "not the JSON"},
		{AddPerson.Operation, "/people", `{"Name": "ines"}`, 400, "not the JSON"},
		{AddPerson.Operation, "/people", `{"name": "ines", "name": "walt"}`, 400, "twice"},
		{SetPassword.Operation, "/people/ines/password", `{"password": "x", "Account": "walt"}`, 400, "Account"},
		{SetPassword.Operation, "/people/ines/password", `{"password": "x", "-": "walt"}`, 400, "-"},
		{AddPerson.Operation, "/people", `{"name": "` + strings.Repeat("x", 65<<10) + `"}`, 400, "too large"},
	} {
		router, err := chi.NewRouter(), error(nil)
		router.MethodFunc(step.op.Method, step.op.Path, func(w http.ResponseWriter, r *http.Request) {
			err = step.op.Decode(w, r, func(name string) string { return chi.URLParam(r, name) }, reflect.New(step.op.In).Interface())
		})
		router.ServeHTTP(httptest.NewRecorder(), httptest.NewRequest(step.op.Method, step.address, strings.NewReader(step.body)))
		var p *Problem
		if !errors.As(err, &p) || p.Status != step.status || !strings.Contains(p.Detail, step.says) {
			t.Errorf("%s %s: %+v, want %d with %q", step.op.Method, step.address, err, step.status, step.says)
		}
	}
}

// Whatever stands in a query, an operation reads it or says what is wrong, and never more than it may be.
func FuzzDecode(f *testing.F) {
	f.Add("limit=5&offset=3&search=a%26b&down=true")
	f.Add("limit=99999999999999999999&since=x")
	f.Add("ending=9223372036854775807&path=%zz&path=b")
	f.Fuzz(func(t *testing.T, query string) {
		for _, o := range Operations() {
			if o.Method != http.MethodGet {
				continue
			}
			r := &http.Request{Method: o.Method, URL: &url.URL{Path: "/", RawQuery: query}, Body: http.NoBody}
			in := reflect.New(o.In)
			err := o.Decode(httptest.NewRecorder(), r, func(string) string { return "7" }, in.Interface())
			if err != nil {
				continue
			}
			for f, field := range fieldsOf(in.Elem()) {
				if f.Tag.Get("most") == "1000" && (field.Int() < 0 || field.Int() > 1000) {
					t.Errorf("%s: %s is %d", o.Path, f.Name, field.Int())
				}
			}
		}
	})
}
