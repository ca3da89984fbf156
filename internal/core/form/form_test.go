package form

import (
	"encoding/json"
	"reflect"
	"strings"
	"testing"
	"time"

	"gullroute/internal/core/address"
)

type boat struct {
	Line  int
	Name  string           `yaml:"name" required:"true" doc:"Its name"`
	Kind  string           `yaml:"kind" enum:"ferry,tug" default:"ferry"`
	Crew  int              `yaml:"crew" min:"1" max:"20" default:"3"`
	Stops []string         `yaml:"stops" each:"north,south"`
	Hold  hold             `yaml:"hold"`
	Log   *hold            `yaml:"log"`
	To    address.Patterns `yaml:"to"`
}

type hold struct {
	Size  Size          `yaml:"size" default:"2 MB"`
	Every time.Duration `yaml:"every" min:"1s" default:"90s"`
	Until Day           `yaml:"until"`
}

func decode(t *testing.T, text string) (boat, string) {
	t.Helper()
	var b boat
	n, err := ParseYAML([]byte(text))
	if err != nil {
		return b, err.Error()
	}
	return b, Decode(n, &b, "boat").Error()
}

func TestDefaultsFillWhatIsNotGiven(t *testing.T) {
	b, faults := decode(t, "name: Skua\nlog: {until: 2026-12-01}\n")
	if faults != "" || b.Kind != "ferry" || b.Crew != 3 || b.Hold.Size != 2_000_000 ||
		b.Hold.Every != 90*time.Second ||
		b.Log.Size != 2_000_000 ||
		b.Log.Until.String() != "2026-12-01" ||
		b.Line != 1 {
		t.Errorf("%q %+v %+v", faults, b, b.Log)
	}
	if b, _ := decode(t, "name: Skua\n"); b.Log != nil {
		t.Error("a record that is not given is made up")
	}
}

func TestEveryFaultHasLineAndField(t *testing.T) {
	_, faults := decode(
		t,
		"kind: kayak\ncrew: 40\nstops: [north, west]\nhold: {size: big, every: 0s}\nto: [\"a b\"]\ncrew: 2\n",
	)
	for _, want := range []string{"line 1, boat.name: this field is missing",
		`line 1, boat.kind: "kayak" is not known; allowed: ferry, tug`, "line 2, boat.crew: 40 is too " +
			"much; at most 20",
		`line 3, boat.stops[1]: "west" is not known; allowed: north, south`, `line 4, boat.hold.size: "big" is not a size`, "line 4, boat.hold.every: 0s is too little; at least 1s", "line 5, boat.to[0]:", "line 6, boat.crew: this field is given twice"} {
		if !strings.Contains(faults, want) {
			t.Errorf("lacks %q:\n%s", want, faults)
		}
	}
}

func TestFieldsAndSchemaSayWhatIsAllowed(t *testing.T) {
	text, _ := json.Marshal(FieldsOf(reflect.TypeFor[boat]()))
	for _, want := range []string{`{"name":"name","type":"text","doc":"Its name","required":true}`,
		`"default":"ferry","allowed":["ferry","tug"]`, `"name":"stops","type":"list","allowed":["north","south"]`, `"name":"log","type":"record"`, `"name":"to","type":"list","form":"pattern"`, `"form":"duration"`} {
		if !strings.Contains(string(text), want) {
			t.Errorf("the fields lack %s:\n%s", want, text)
		}
	}
	text, _ = json.Marshal(JSONSchema(reflect.TypeFor[boat]()))
	for _, want := range []string{`"required":["name"]`, `"enum":["ferry","tug"]`, `"maximum":20`,
		`"additionalProperties":false`, `"default":3`} {
		if !strings.Contains(string(text), want) {
			t.Errorf("the schema lacks %s:\n%s", want, text)
		}
	}
	if s := Shown[boat]("log", "to"); len(s) != 5 {
		t.Errorf("%d fields are shown", len(s))
	}
}

func TestNodesCarryWhatJSONHas(t *testing.T) {
	const given = `{"a":"25","b":25,"c":true,"d":["x",{"e":"two\nlines"}],"f":"2026-12-01","g":"no"}`
	var v any
	d := json.NewDecoder(strings.NewReader(given))
	d.UseNumber()
	_ = d.Decode(&v)
	text, _ := json.Marshal(Plain(NodeOf(v)))
	if string(text) != given {
		t.Errorf("%s", text)
	}
	for size, want := range map[Size]string{0: "0", 999: "999", 1000: "1 KB", 25_000_000: "25 MB",
		1_500_000: "1500 KB", 2_000_000_000: "2 GB"} {
		if size.String() != want {
			t.Errorf("%d: %s", size, size)
		}
	}
}
