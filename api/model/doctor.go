package model

// Severities of an ExaminationFinding.
const (
	ExaminationProblem = "problem" // something is wrong
	ExaminationNote    = "note"    // worth knowing
	ExaminationWell    = "well"    // an area where nothing is wrong
)

// Examination is what an examination of the service, its records and its proxies found:
// problems first.
type Examination struct {
	Findings []ExaminationFinding `json:"findings"`
	Problems int                  `json:"problems"` // findings that are problems
}

// ExaminationFinding is one thing that was found out.
type ExaminationFinding struct {
	Area     string `json:"area"`     // records, service, proxies, authority, rules or clock
	Severity string `json:"severity"` // problem, note or well
	What     string `json:"what"`
	Do       string `json:"do,omitempty"` // what to do about it
}
