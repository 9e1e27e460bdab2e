package change

import (
	"encoding/json"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"strconv"
	"testing"
	"time"

	"nightjar/api/model"
)

// TestBetween: a mesh with what changed is the mesh after it, whatever changed.
func TestBetween(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	smaller := 0
	for range 400 {
		var before, now model.Mesh
		vary(random, reflect.ValueOf(&before).Elem(), 1)
		if err := json.Unmarshal(text(t, before), &now); err != nil {
			t.Fatal(err)
		}
		vary(random, reflect.ValueOf(&now).Elem(), []float64{0, 0.002, 0.05, 0.5}[random.IntN(4)])
		got, err := Between(&before, &now)
		if err != nil {
			t.Fatal(err)
		}
		after, err := Apply(read(t, text(t, before)), read(t, got))
		if err != nil || !reflect.DeepEqual(after, read(t, text(t, now))) {
			t.Fatalf("%s\nwith %s\nis not %s: %v", text(t, before), got, text(t, now), err)
		}
		if same, _ := Between(&now, &now); string(same) != "{}" {
			t.Fatalf("nothing changed, and yet %s", same)
		}
		if len(got) < len(text(t, now))/4 {
			smaller++
		}
	}
	if smaller < 150 {
		t.Errorf("only %d of 400 changes are small", smaller)
	}
}

func TestBetweenWritesWhatChanged(t *testing.T) {
	type part struct {
		N int `json:"n"`
	}
	type whole struct {
		A    string         `json:"a,omitempty"`
		P    *float64       `json:"p"`
		List []part         `json:"list"`
		Map  map[string]int `json:"map"`
		Key  []byte         `json:"key,omitempty"`
		IP   netip.Addr     `json:"ip,omitzero"`
	}
	half := 0.5
	for _, c := range []struct {
		before, now whole
		want        string
	}{
		{whole{A: "x"}, whole{}, `{"a":[]}`},
		{whole{}, whole{A: "x", P: &half}, `{"a":["x"],"p":[0.5]}`},
		{whole{P: &half}, whole{}, `{"p":[null]}`},
		{whole{List: []part{{1}, {2}}}, whole{List: []part{{1}, {3}}}, `{"list":{"1":{"n":[3]}}}`},
		{whole{List: []part{{1}, {2}}}, whole{List: []part{{2}}}, `{"list":[[{"n":2}]]}`},
		{whole{List: nil}, whole{List: []part{}}, `{"list":[[]]}`},
		{whole{Key: []byte("ab")}, whole{Key: []byte("ac")}, `{"key":["YWM="]}`},
		{whole{IP: netip.MustParseAddr("::1")}, whole{IP: netip.MustParseAddr("::2")}, `{"ip":["::2"]}`},
		{whole{Map: map[string]int{"k": 1}}, whole{Map: map[string]int{}}, `{"map":[{}]}`},
	} {
		if got, err := Between(&c.before, &c.now); err != nil || string(got) != c.want {
			t.Errorf("%+v to %+v: %s, %v; want %s", c.before, c.now, got, err, c.want)
		}
	}
	type cannot struct{ F any }
	if _, err := Between(&cannot{F: 1}, &cannot{F: func() {}}); err == nil {
		t.Error("what has no JSON gives no error")
	}
}

func TestApplyRefuses(t *testing.T) {
	for change, value := range map[string]string{
		`{"a":{"b":[1]}}`: `{"a":1}`, `{"3":[1]}`: `[1,2]`, `{"x":[1]}`: `[1]`, `{"a":[1,2]}`: `{}`, `7`: `{}`, `[]`: `1`, `{"-1":[1]}`: `[1]`,
	} {
		if got, err := Apply(read(t, []byte(value)), read(t, []byte(change))); err == nil {
			t.Errorf("%s after %s is %v", value, change, got)
		}
	}
}

// vary sets each part of a value to something else, with some probability.
func vary(random *rand.Rand, v reflect.Value, p float64) {
	if v.Type() == reflect.TypeFor[time.Time]() {
		if random.Float64() < p {
			v.Set(reflect.ValueOf(time.Unix(random.Int64N(3), 0).UTC()))
		}
		return
	}
	switch v.Kind() {
	case reflect.Struct:
		for i := range v.NumField() {
			vary(random, v.Field(i), p)
		}
		return
	case reflect.Slice:
		if random.Float64() < p/2 {
			v.Set(reflect.MakeSlice(v.Type(), random.IntN(3), 3))
			p = 1
		}
		for i := range v.Len() {
			vary(random, v.Index(i), p)
		}
		return
	}
	if random.Float64() >= p {
		return
	}
	switch n := random.IntN(3); v.Kind() {
	case reflect.String:
		v.SetString([]string{"", "a<b", "ä"}[n])
	case reflect.Bool:
		v.SetBool(n == 0)
	case reflect.Float64:
		v.SetFloat(float64(n) / 2)
	case reflect.Int, reflect.Int64:
		v.SetInt(int64(n))
	case reflect.Uint, reflect.Uint64, reflect.Uint16:
		v.SetUint(uint64(n))
	case reflect.Map:
		v.Set(reflect.MakeMap(v.Type()))
		if n > 0 {
			value := reflect.New(v.Type().Elem()).Elem()
			vary(random, value, 1)
			v.SetMapIndex(reflect.ValueOf("k"), value)
		}
	case reflect.Pointer:
		v.SetZero()
		if n > 0 {
			v.Set(reflect.New(v.Type().Elem()))
			vary(random, v.Elem(), 1)
		}
	}
}

func text(t *testing.T, v any) []byte {
	t.Helper()
	b, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func read(t *testing.T, b []byte) (v any) {
	t.Helper()
	if err := json.Unmarshal(b, &v); err != nil {
		t.Fatal(err, string(b))
	}
	return v
}

// BenchmarkBetween compares meshes of 5,000 services of which a tenth changed.
func BenchmarkBetween(b *testing.B) {
	var before, now model.Mesh
	for i := range 5000 {
		s := model.Service{Name: "service-" + strconv.Itoa(i), Versions: make([]model.Version, 2), Routes: make([]model.Route, 1)}
		before.Services = append(before.Services, s)
		s.Figures.Requests = uint64(i % 10 / 9)
		now.Services = append(now.Services, s)
	}
	for b.Loop() {
		if _, err := Between(&before, &now); err != nil {
			b.Fatal(err)
		}
	}
}
