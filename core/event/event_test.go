package event

import (
	"encoding/json"
	"errors"
	"reflect"
	"strings"
	"testing"
	"time"
)

func TestReadOurOwn(t *testing.T) {
	e, err := Read([]byte(`{"type":"paid","order":"o1","buyer":{"address":"mo@marram.example","name":"Mo"},"items":[{"item":"bell",`+
		`"name":"The fog bell","number":1}]}`), Fields{})
	want := Event{Type: Paid, Order: "o1", Buyer: Buyer{Address: "mo@marram.example", Name: "Mo"}, Items: []Item{{"bell", "The fog bell", 1}}}
	if err != nil || !reflect.DeepEqual(e, want) {
		t.Errorf("%+v %v", e, err)
	}
	e, err = Read([]byte(`{"type":"renewed","order":7,"items":[{"item":12,"more":[]}],"until":"2027-03-31T18:00:00+01:00",`+
		`"at":1790000000,"buyer":null,"note":{"a":{"b":[1]}}}`), Fields{})
	if err != nil || e.Order != "7" || e.Items[0] != (Item{"12", "", 1}) ||
		!e.Until.Equal(time.Date(2027, 3, 31, 17, 0, 0, 0, time.UTC)) || e.At.Unix() != 1790000000 {
		t.Errorf("%+v %v", e, err)
	}
}

// Two shops of other shapes.
func TestReadOtherShapes(t *testing.T) {
	chandler := Fields{
		At: map[string]string{
			"type": "/event", "order": "/data/sale/no", "address": "/data/client/mail", "name": "/data/client/full~1name",
			"items": "/data/sale/lines", "item": "/sku", "number": "/qty", "until": "/data/sale/ends", "at": "/when",
		},
		Types: map[string]Type{"sale.settled": Paid, "sale.returned": Refunded},
	}
	e, err := Read([]byte(`{"event":"sale.settled","when":1790000000,"data":{"client":{"mail":"mo@marram.example","full/name":"Mo"},`+
		`"sale":{"no":4711,"lines":[{"sku":"bell","qty":2},{"sku":"year-of-support"}],"ends":1821536000}}}`), chandler)
	want := Event{
		Type: Paid, Order: "4711", Buyer: Buyer{Address: "mo@marram.example", Name: "Mo"},
		Items: []Item{{"bell", "", 2}, {"year-of-support", "", 1}}, At: time.Unix(1790000000, 0).UTC(), Until: time.Unix(1821536000, 0).UTC(),
	}
	if err != nil || !reflect.DeepEqual(e, want) {
		t.Errorf("%+v %v", e, err)
	}
	if _, err := Read([]byte(`{"event":"sale.parked","data":{"sale":{"no":4711}}}`), chandler); !errors.Is(err, ErrUnknown) {
		t.Errorf("a type that means nothing: %v", err)
	}
	gannet := Fields{At: map[string]string{"type": "/0", "order": "/kind/ref"}, Types: map[string]Type{}}
	if _, err := Read([]byte(`["paid"]`), gannet); err == nil {
		t.Error("a list is taken")
	}
	// One article alone, without a list around it.
	single := Fields{At: map[string]string{
		"type": "/what", "order": "/id", "address": "/who", "items": "/article", "item": "/code", "item-name": "/label",
	}, Types: map[string]Type{"bought": Paid, "ended": Lapsed}}
	e, err = Read([]byte(`{"what":"bought","id":"A-1","who":"mo@marram.example","article":{"code":"bell","label":"The fog bell"}}`), single)
	if err != nil || e.Type != Paid || len(e.Items) != 1 || e.Items[0] != (Item{"bell", "The fog bell", 1}) {
		t.Errorf("%+v %v", e, err)
	}
}

func TestReadRefuses(t *testing.T) {
	for _, body := range []string{
		``, `{`, `[]`, `null`, `"paid"`, `{}`, `{"type":"paid"}`, `{"type":"gone","order":"o1"}`, `{"type":"paid","order":"o1"} {}`,
		`{"type":"paid","order":"o1","order":"o2"}`,
		`{"type":"paid","order":{"a":1}}`, `{"type":"paid","order":true}`, `{"type":"paid","order":"o1","items":{}}`,
		`{"type":"paid","order":"o1","items":[{}]}`, `{"type":"paid","order":"o1","items":["bell"]}`,
		`{"type":"paid","order":"o1","items":[{"item":"bell","number":0}]}`,
		`{"type":"paid","order":"o1","items":[{"item":"bell","number":1.5}]}`,
		`{"type":"paid","order":"o1","items":[{"item":"bell","number":"2"}]}`,
		`{"type":"paid","order":"o1","items":[{"item":"bell","number":1001}]}`,
		`{"type":"paid","order":"o1","items":[{"item":"bell"},{"item":"bell"}]}`, `{"type":"paid","order":"o1","until":"soon"}`,
		`{"type":"paid","order":"o1","until":-5}`,
		`{"type":"paid","order":"o1","buyer":{"address":7}}`, `{"type":"paid","order":"o\n1"}`,
		`{"type":"paid","order":"` + strings.Repeat("x", 201) + `"}`, strings.Repeat(`{"a":`, 30) + `1` + strings.Repeat(`}`, 30),
		`{"type":"paid","order":"o1","at":"0001-01-01T00:00:01Z"}`,
	} {
		if e, err := Read([]byte(body), Fields{}); err == nil || errors.Is(err, ErrUnknown) {
			t.Errorf("%s is taken: %+v %v", body, e, err)
		}
	}
}

// The example of RFC 6901, section 5.
func TestPointers(t *testing.T) {
	var document any
	if err := json.Unmarshal([]byte(`{"foo":["bar","baz"],"":0,"a/b":1,"c%d":2,"e^f":3,"g|h":4,"i\\j":5,"k\"l":6," ":7,"m~n":8}`),
		&document); err != nil {
		t.Fatal(err)
	}
	for text, want := range map[string]any{
		"/foo/0": "bar", "/": 0.0, "/a~1b": 1.0, "/c%d": 2.0, "/e^f": 3.0, "/g|h": 4.0, `/i\j`: 5.0, `/k"l`: 6.0, "/ ": 7.0, "/m~0n": 8.0,
	} {
		p, err := ReadPointer(text)
		if err != nil {
			t.Errorf("%q: %v", text, err)
			continue
		}
		if got, has := p.Find(document); !has || got != want {
			t.Errorf("%q: %v %v", text, got, has)
		}
	}
	for _, text := range []string{"/foo/2", "/foo/01", "/foo/-", "/bar", "/foo/0/x", "/foo/-1"} {
		if p, err := ReadPointer(text); err != nil {
			t.Errorf("%q: %v", text, err)
		} else if got, has := p.Find(document); has {
			t.Errorf("%q finds %v", text, got)
		}
	}
	for _, text := range []string{"foo", "/~", "/~2", "/a~", strings.Repeat("/a", 30)} {
		if _, err := ReadPointer(text); err == nil {
			t.Errorf("%q is taken", text)
		}
	}
	if p, err := ReadPointer("/~01"); err != nil || p.parts[0] != "~1" {
		t.Errorf("%v %v", p.parts, err)
	}
}

func TestReadList(t *testing.T) {
	all, err := ReadList("order;email;item;number;until;type\no1;mo@marram.example;bell;2;2027-03-31;\no2;;;;;refunded\no3;x;bell;none;;"+
		"\n;x;bell;;;\no4;x;bell\n", time.UTC)
	if err != nil || len(all) != 5 {
		t.Fatalf("%+v %v", all, err)
	}
	first := Event{
		Type: Paid, Order: "o1", Buyer: Buyer{Address: "mo@marram.example"}, Items: []Item{{"bell", "", 2}},
		Until: time.Date(2027, 4, 1, 0, 0, 0, 0, time.UTC),
	}
	if all[0].Err != nil || !reflect.DeepEqual(all[0].Event, first) || all[1].Err != nil || all[1].Event.Type != Refunded ||
		all[2].Err == nil || all[3].Err == nil || all[4].Err == nil {
		t.Errorf("%+v", all)
	}
	if _, err := ReadList("address,item\nx,y\n", time.UTC); err == nil {
		t.Error("a list without orders is taken")
	}
}

// Whatever comes, reading it ends, and what is read can be written and read again.
func FuzzRead(f *testing.F) {
	f.Add([]byte(`{"type":"paid","order":"o1","buyer":{"address":"mo@marram.example","name":"Mo"},"items":[{"item":"bell","name":"The ` +
		`fog bell","number":1}]}`))
	f.Add([]byte(`{"type":"renewed","order":7,"until":"2027-03-31T18:00:00+01:00","at":1790000000.5}`))
	f.Add([]byte(`[[[[`))
	f.Add([]byte(`{"type":"paid","order":"\ud800"}`))
	f.Fuzz(func(t *testing.T, body []byte) {
		e, err := Read(body, Fields{})
		if err != nil {
			return
		}
		text, err := json.Marshal(e)
		if err != nil {
			t.Fatal(err)
		}
		again, err := Read(text, Fields{})
		if err != nil || !reflect.DeepEqual(again, e) {
			t.Errorf("%s became\n%+v and then\n%+v: %v", body, e, again, err)
		}
	})
}
