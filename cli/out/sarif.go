package out

import (
	"io"

	"github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"

	"nightjar/api/model"
	"nightjar/core/rules"
)

// levels are the levels of SARIF for severities.
var levels = map[string]string{model.Mistake: sarif.LevelError, model.Warning: sarif.LevelWarning}

// SARIF writes findings in the Static Analysis Results Interchange Format (OASIS
// SARIF 2.1.0), which CI systems read.
func SARIF(w io.Writer, program string, found []model.Finding) error {
	driver := sarif.NewToolComponent().WithName("nightjar").WithVersion(program)
	index := map[string]int{}
	for i, k := range rules.Kinds() {
		index[string(k.Code)] = i
		level := sarif.NewReportingConfiguration().WithLevel(levels[string(k.Severity)])
		driver.AddRule(sarif.NewRule(string(k.Code)).
			WithShortDescription(sarif.NewMultiformatMessageString().WithText(k.Means)).
			WithDefaultConfiguration(level))
	}
	run := sarif.NewRun().WithTool(sarif.NewTool().WithDriver(driver)).WithColumnKind("unicodeCodePoints")
	for _, f := range found {
		message := f.Message
		if f.Expected != "" {
			message += "; expected " + f.Expected
		}
		at := location(f.At)
		if f.Path != "" {
			at.AddLogicalLocation(sarif.NewLogicalLocation().WithFullyQualifiedName(f.Path))
		}
		r := sarif.NewRuleResult(f.Code).WithRuleIndex(index[f.Code]).WithLevel(levels[f.Severity]).
			WithMessage(sarif.NewTextMessage(message)).AddLocation(at)
		if f.Also != nil {
			r.AddRelatedLocation(location(*f.Also).WithMessage(sarif.NewTextMessage("the other place")))
		}
		run.AddResult(r)
	}
	report := sarif.NewReport()
	report.AddRun(run)
	return report.PrettyWrite(w)
}

func location(o model.Origin) *sarif.Location {
	region := sarif.NewRegion().WithStartLine(max(o.Line, 1)).WithStartColumn(max(o.Col, 1))
	return sarif.NewLocationWithPhysicalLocation(sarif.NewPhysicalLocation().
		WithArtifactLocation(sarif.NewSimpleArtifactLocation(o.File)).WithRegion(region))
}
