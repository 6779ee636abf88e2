package api

import (
	"maps"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"

	"ostiarius/client"
	"ostiarius/core/policy"
	"ostiarius/core/prove"
	"ostiarius/core/replay"
	"ostiarius/core/site"
)

// The types that go over the wire, by the names that they have in the description.
var wire = map[string]any{
	"Address": client.Address{}, "AnswerShown": policy.AnswerShown{}, "Applied": client.Applied{}, "Cell": prove.Cell{}, "Change": policy.Change{}, "Checked": client.Checked{}, "Compared": client.Compared{},
	"Crossing": client.Crossing{}, "Difference": prove.Difference{}, "Edit": client.Edit{}, "Edited": client.Edited{}, "Edits": client.Edits{}, "Exception": client.Exception{}, "Generate": client.Generate{}, "Generated": client.Generated{}, "Proposal": site.Proposal{}, "Phrase": policy.Phrase{}, "Terms": policy.Terms{}, "Reply": policy.Reply{}, "Site": client.Site{}, "Spot": site.Spot{}, "Decider": site.Decider{}, "Door": client.Door{}, "DoorHits": client.DoorHits{}, "DoorRef": policy.DoorRef{}, "Doors": client.Doors{}, "Draft": client.Draft{},
	"EntriesExport": client.EntriesExport{}, "EntriesImport": client.EntriesImport{}, "Entry": client.Entry{}, "Event": client.Event{}, "Explanation": policy.Explanation{}, "Finding": policy.Finding{},
	"Grant": client.Grant{}, "Guarantee": prove.Guarantee{}, "Hour": client.Hour{}, "Import": client.Import{}, "Imported": client.Imported{}, "ImportedLine": client.ImportedLine{}, "Keyring": client.Keyring{},
	"ContrastFault": client.ContrastFault{}, "Looks": client.Looks{}, "Palette": client.Palette{}, "Application": client.Application{}, "Declining": client.Declining{}, "Invitation": client.Invitation{}, "Invited": client.Invited{}, "Joining": client.Joining{}, "NewInvitation": client.NewInvitation{}, "Letter": client.Letter{}, "Message": client.Message{}, "Messages": client.Messages{}, "TestMessage": client.TestMessage{}, "Link": client.Link{}, "Matrix": client.Matrix{}, "MatrixQuery": client.MatrixQuery{}, "Me": client.Me{}, "Ways": client.Ways{}, "AskedPlaces": client.AskedPlaces{}, "AskedPlace": client.AskedPlace{}, "May": client.May{}, "PlaceToGo": client.PlaceToGo{}, "MarksQuery": client.MarksQuery{}, "Marks": client.Marks{}, "MarkedRow": client.MarkedRow{}, "NewEntry": client.NewEntry{}, "NewEntryPassword": client.NewEntryPassword{}, "EntryEdit": client.EntryEdit{}, "NewGrant": client.NewGrant{},
	"NewPassword": client.NewPassword{}, "NewPerson": client.NewPerson{}, "Pending": client.Pending{}, "People": client.People{}, "Person": client.Person{}, "PersonEdit": client.PersonEdit{},
	"Problem": client.Problem{}, "Relations": client.Relations{}, "Row": prove.Row{}, "Session": client.Session{}, "Sessions": client.Sessions{}, "SourceRef": client.SourceRef{}, "Status": client.Status{},
	"SharedPassword": client.SharedPassword{}, "SharedValid": client.SharedValid{}, "SetShared": client.SetShared{}, "Unlock": client.Unlock{}, "Unlocks": client.Unlocks{}, "TellShared": client.TellShared{}, "ToldShared": client.ToldShared{}, "Recipient": client.Recipient{}, "Telling": client.Telling{}, "Tellings": client.Tellings{}, "PassKind": client.PassKind{}, "Pass": client.Pass{}, "PassDownloads": client.PassDownloads{}, "PassEvent": client.PassEvent{}, "Passes": client.Passes{}, "NewPass": client.NewPass{}, "IssuedPass": client.IssuedPass{}, "PassesImport": client.PassesImport{}, "ImportedPasses": client.ImportedPasses{}, "RenewPass": client.RenewPass{}, "ResendPass": client.ResendPass{}, "RotatePasses": client.RotatePasses{}, "RotatedPasses": client.RotatedPasses{},
	"Patrols": client.Patrols{}, "PatrolRunning": client.PatrolRunning{}, "PatrolMade": client.PatrolMade{}, "PatrolResult": client.PatrolResult{}, "PatrolFinding": client.PatrolFinding{}, "PatrolRequest": client.PatrolRequest{}, "PatrolAccepted": client.PatrolAccepted{}, "PatrolLeft": client.PatrolLeft{}, "AcceptFinding": client.AcceptFinding{}, "RejectFinding": client.RejectFinding{}, "NewPatrol": client.NewPatrol{}, "NewWalk": client.NewWalk{}, "Replayed": client.Replayed{}, "Group": replay.Group{}, "Walk": client.Walk{}, "Patrol": client.Patrol{}, "ShopEvent": client.ShopEvent{}, "ShopItem": client.ShopItem{}, "ShopEvents": client.ShopEvents{}, "EventSecret": client.EventSecret{}, "NewEventSecret": client.NewEventSecret{}, "MadeSecret": client.MadeSecret{}, "PaymentsImport": client.PaymentsImport{}, "ImportedPayments": client.ImportedPayments{}, "Target": client.Target{}, "NewTarget": client.NewTarget{}, "MadeTarget": client.MadeTarget{}, "Member": client.Member{}, "Members": client.Members{}, "MembersWeek": client.MembersWeek{},
	"AccessKey": client.AccessKey{}, "AccessKeys": client.AccessKeys{}, "NewAccessKey": client.NewAccessKey{}, "MadeAccessKey": client.MadeAccessKey{}, "FactorReset": client.FactorReset{}, "HeldFactors": client.HeldFactors{}, "HeldPasskey": client.HeldPasskey{}, "HeldElsewhere": client.HeldElsewhere{},
	"Step": policy.Step{}, "Strength": client.Strength{}, "Today": client.Today{}, "Upstream": client.Upstream{}, "Version": client.Version{}, "Witness": policy.Witness{},
}

// A described is a schema of the description.
type described struct {
	Ref                  string `yaml:"$ref"`
	Type                 any
	Format               string
	Required             []string
	Properties           map[string]described
	Items                *described
	AdditionalProperties any `yaml:"additionalProperties"`
}

// The schemas of the description are the types of the wire, field by field. The console's types are made
// of the schemas (see console/types), so that none of the three can say something else.
func TestSchemasAreTheTypes(t *testing.T) {
	var document struct {
		Components struct{ Schemas map[string]described }
	}
	if err := yaml.Unmarshal(description, &document); err != nil {
		t.Fatal(err)
	}
	schemas := document.Components.Schemas
	names := map[reflect.Type]string{}
	for name, value := range wire {
		names[reflect.TypeOf(value)] = name
	}
	for _, name := range slices.Sorted(maps.Keys(schemas)) {
		if _, known := wire[name]; !known && name != "Exported" {
			t.Errorf("%s is no type of the wire", name)
		}
	}
	for name, value := range wire {
		schema, there := schemas[name]
		if !there {
			t.Errorf("%s is not described", name)
			continue
		}
		if schema.AdditionalProperties != false {
			t.Errorf("%s may have more than is described", name)
		}
		required := map[string]bool{}
		for _, field := range schema.Required {
			required[field] = true
		}
		left := maps.Clone(schema.Properties)
		var look func(of reflect.Type)
		look = func(of reflect.Type) {
			for i := range of.NumField() {
				f := of.Field(i)
				if f.Anonymous {
					look(f.Type)
					continue
				}
				field, options, _ := strings.Cut(f.Tag.Get("json"), ",")
				property, there := schema.Properties[field]
				if !there {
					t.Errorf("%s.%s is not described", name, field)
					continue
				}
				delete(left, field)
				if omitted := strings.Contains(options, "omit"); omitted == required[field] {
					t.Errorf("%s.%s: required is %v", name, field, required[field])
				}
				if said, want := kindOf(&property), wanted(f.Type, names); said != want {
					t.Errorf("%s.%s is described as %s, and is %s", name, field, said, want)
				}
			}
		}
		look(reflect.TypeOf(value))
		for field := range left {
			t.Errorf("%s.%s is described, and not there", name, field)
		}
	}
}

// kindOf says in one form what a schema describes.
func kindOf(d *described) string {
	if d.Ref != "" {
		return strings.TrimPrefix(d.Ref, "#/components/schemas/")
	}
	kind, _ := d.Type.(string)
	if either, ok := d.Type.([]any); ok && len(either) == 2 && either[1] == "null" {
		kind, _ = either[0].(string)
	}
	switch {
	case kind == "array":
		return "array of " + kindOf(d.Items)
	case d.Format == "date-time":
		return "time"
	}
	return kind
}

// wanted is kindOf for a type.
func wanted(t reflect.Type, names map[reflect.Type]string) string {
	if name, known := names[t]; known {
		return name
	}
	switch {
	case t == reflect.TypeFor[time.Time]():
		return "time"
	case t.Kind() == reflect.Pointer:
		return wanted(t.Elem(), names)
	case t.Kind() == reflect.Slice:
		return "array of " + wanted(t.Elem(), names)
	case t.Kind() == reflect.Struct:
		return "Witness" // the one without an outcome
	}
	return map[reflect.Kind]string{reflect.String: "string", reflect.Bool: "boolean", reflect.Int: "integer", reflect.Int64: "integer", reflect.Float64: "number", reflect.Map: "object"}[t.Kind()]
}
