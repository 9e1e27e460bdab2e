package out

import (
	"encoding/xml"
	"fmt"
	"io"
	"strings"

	"nightjar/api/model"
)

type junitSuite struct {
	XMLName  xml.Name    `xml:"testsuite"`
	Name     string      `xml:"name,attr"`
	Tests    int         `xml:"tests,attr"`
	Failures int         `xml:"failures,attr"`
	Errors   int         `xml:"errors,attr"`
	Skipped  int         `xml:"skipped,attr"`
	Time     string      `xml:"time,attr"`
	Stamp    string      `xml:"timestamp,attr"`
	Cases    []junitCase `xml:"testcase"`
	Out      string      `xml:"system-out,omitempty"`
}

type junitCase struct {
	Name    string    `xml:"name,attr"`
	Class   string    `xml:"classname,attr"`
	Time    string    `xml:"time,attr"`
	Failure *junitWhy `xml:"failure,omitempty"`
	Error   *junitWhy `xml:"error,omitempty"`
}

type junitWhy struct {
	Message string `xml:"message,attr"`
	Type    string `xml:"type,attr"`
	Text    string `xml:",chardata"`
}

// JUnit writes a trial as a suite with one case for each expectation, in the form
// that CI systems read.
func JUnit(w io.Writer, t *model.Trial) error {
	seconds := fmt.Sprintf("%.3f", t.Seconds)
	s := junitSuite{Name: "trial " + t.Name, Time: seconds, Stamp: t.Began.UTC().Format("2006-01-02T15:04:05")}
	add := func(c junitCase) {
		c.Class, c.Time = "nightjar.trial."+t.Name, seconds
		s.Cases = append(s.Cases, c)
	}
	for _, j := range t.Expected {
		c := junitCase{Name: j.Expectation}
		if !j.IsMet {
			c.Failure = &junitWhy{
				Message: "measured " + j.Measured,
				Type:    "expectation",
				Text:    fmt.Sprintf("expected %s, measured %s", j.Expectation, j.Measured),
			}
			s.Failures++
		}
		add(c)
	}
	if t.State == model.TrialStopped || t.State == model.TrialInterrupted {
		add(junitCase{Name: "ends by itself", Error: &junitWhy{Message: t.Why, Type: t.State}})
		s.Errors++
	} else if len(t.Expected) == 0 {
		add(junitCase{Name: "ends by itself"})
	}
	s.Tests = len(s.Cases)
	s.Out = strings.Join(append(append([]string{}, t.Loads...), t.Notes...), "\n")
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(w)
	e.Indent("", "  ")
	if err := e.Encode(struct {
		XMLName xml.Name `xml:"testsuites"`
		Suites  []junitSuite
	}{Suites: []junitSuite{s}}); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}
