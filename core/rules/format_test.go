package rules

import (
	"os"
	"strings"
	"testing"
)

func TestFormat(t *testing.T) {
	for _, c := range []struct{ name, in, want string }{
		{"nothing", "", ""},
		{"a comment alone", "\n\n# x  \n", "# x\n"},
		{"levels, brackets, empty lines", `services:
    # first
    a:
        versions:   [ v1,v2 ]   # ok



        routes:
        -   name: x   # the name
            when: { path : /a ,  method: [GET,HEAD]}
            send:
                v1: 50
                # half
                "v2" :  50
        # in between
        - name: y
          reply:
             status: 200
             body: |
                 hello
                   # not a comment

                 there
        -
            name: z
            send: v1   ` + `
    # last
`, `services:
  # first
  a:
    versions: [v1, v2]   # ok

    routes:
      - name: x   # the name
        when: {path: /a, method: [GET, HEAD]}
        send:
          v1: 50
          # half
          "v2": 50
      # in between
      - name: y
        reply:
          status: 200
          body: |
              hello
                # not a comment

              there
      -
        name: z
        send: v1
  # last
`},
		{"marks of other systems", "\ufeffservices:\r\n    a: {}\r\n", "services:\n  a: {}\n"},
		{"texts of several lines", "trials:\n    t:\n        load:\n          body: \"a\n\n\n            b: # c\"\n          to: x\n", "trials:\n  t:\n    load:\n      body: \"a\n\n\n        b: # c\"\n      to: x\n"},
		{"brackets over several lines", "services:\n   a:\n      labels: {\n        x:   y,\n        # z\n        z: w\n      }\n", "services:\n  a:\n    labels: {\n      x:   y,\n      # z\n      z: w\n    }\n"},
		{"quotes with marks in them", `{"a" : "b, c" ,'d': 'it''s #1' , "e\"f":"x"}`, "{\"a\": \"b, c\", 'd': 'it''s #1', \"e\\\"f\": \"x\"}\n"},
		{"lists beside their key, anchors", "---\na: &x\n    b:\n    - c\n    # d\n    - e\nf: *x\n", "---\na: &x\n  b:\n    - c\n    # d\n    - e\nf: *x\n"},
		{"aliases stay", "a: &x {b:  1}\nc: *x\nd: [ *x,  1 ]\n", "a: &x {b:  1}\nc: *x\nd: [ *x,  1 ]\n"},
		{"JSON", `{"services":{"s":{"versions":["v1"]}}}`, "{\n  \"services\": {\n    \"s\": {\n      \"versions\": [\n        \"v1\"\n      ]\n    }\n  }\n}\n"},
	} {
		got, err := Format(File{"f", c.in})
		if err != nil || got != c.want {
			t.Errorf("%s: %v\ngot\n%s\nwant\n%s", c.name, err, got, c.want)
		}
	}
	if _, err := Format(File{"f", "a: [\n"}); err == nil || !strings.HasPrefix(err.Error(), "f:") {
		t.Errorf("not YAML: %v", err)
	}
	for _, name := range []string{"ferry", "night-shift", "bad-weather"} {
		text, err := os.ReadFile("../../examples/" + name + "/rules.yaml")
		if err != nil {
			t.Fatal(err)
		}
		if got, err := Format(File{"f", string(text)}); err != nil || got != string(text) {
			t.Errorf("example %s is laid out otherwise: %v", name, err)
		}
	}
}

// FuzzFormat: what a file says, its comments and its layout once formatted
// stay when it is formatted.
func FuzzFormat(f *testing.F) {
	for _, s := range []string{sample, chain, "a:\n  - - b\n    - c\n  -\n    d: |2\n        e\n", "? a\n: b\n", "a: >-\n  x\n\n  y\n# z\nb: 'it''s\n  long'\n", "- {a: [b, {c: d}], e: \"f\"}\n-   g:   # h\n    - i\n", "%YAML 1.2\n---\na: 1\n...\n", "a: plain\n  goes on\n\n  here # c\nb: !!str 1\n"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		before, err := document(text)
		if err != nil {
			return
		}
		once, err := Format(File{"f", text})
		if err != nil {
			t.Fatalf("%q: %v", text, err)
		}
		after, err := document(once)
		if err != nil || !sameNodes(before, after) {
			t.Fatalf("%q became\n%q\nwhich says something else (%v)", text, once, err)
		}
		if a, b := comments(strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(text)), comments(once); once != text && strings.Join(a, "\n") != strings.Join(b, "\n") {
			t.Fatalf("%q lost comments: %q", text, once)
		}
		if twice, err := Format(File{"f", once}); err != nil || twice != once {
			t.Fatalf("%q formatted twice is %q (%v)", once, twice, err)
		}
		a, foundA := Check([]File{{"f", text}}, Live{})
		b, foundB := Check([]File{{"f", once}}, Live{})
		if Mistakes(foundA) != Mistakes(foundB) || Mistakes(foundA) == 0 && len(Diff(a, b)) > 0 {
			t.Fatalf("%q became\n%q\nand the rules differ", text, once)
		}
	})
}
