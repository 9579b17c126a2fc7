package report

import (
	"fmt"
	"io"
	"net/url"
	"path/filepath"
	"strings"
	"time"

	"github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"

	"millgate/core/finding"
	"millgate/core/history"
)

// The taxonomies that findings are placed in, by their index among the run's.
const (
	taxonomyOWASP = iota
	taxonomyCWE
)

var taxonomies = []string{"OWASP API Security Top 10 2023", "CWE"}

// Fingerprint is the name of the fingerprint of a result, which is its finding's id.
const Fingerprint = "millgate/finding/v1"

// levels of SARIF by severity.
var levels = map[finding.Severity]string{finding.Low: "note", finding.Medium: "warning", finding.High: "error",
	finding.Critical: "error"}

// ranks are severities as tools that sort by a number expect them: 0 to 10.
var ranks = map[finding.Severity]string{finding.Low: "3.0", finding.Medium: "5.5", finding.High: "8.0",
	finding.Critical: "9.5"}

// baselines are the states of SARIF (2.1.0 section 3.27.24).
var baselines = map[history.State]string{history.New: "new", history.Back: "new", history.Open: "unchanged"}

// SARIF writes a report as a static analysis result (SARIF 2.1.0): a result for each finding, at the line of the
// declaration that decides, a rule for each cause.
func (r *Report) SARIF(w io.Writer) error {
	run := sarif.NewRunWithInformationURI(Creator, "https://millgate.example")
	driver := run.Tool.Driver
	driver.WithSemanticVersion(fmt.Sprintf("%d.0.0", r.Version))
	for i, name := range taxonomies {
		of := sarif.NewToolComponent().WithName(name)
		run.AddTaxonomie(of)
		driver.SupportedTaxonomies = append(driver.SupportedTaxonomies,
			sarif.NewToolComponentReference().WithName(name).WithIndex(i))
	}
	rules, taxa := map[string]int{}, [2]map[string]int{{}, {}}
	taxon := func(of int, id, title string) *sarif.ReportingDescriptorReference {
		i, ok := taxa[of][id]
		if !ok {
			i = len(taxa[of])
			taxa[of][id] = i
			run.Taxonomies[of].Taxa = append(run.Taxonomies[of].Taxa, sarif.NewReportingDescriptor().WithID(id).
				WithShortDescription(words(title)))
		}
		return sarif.NewReportingDescriptorReference().WithID(id).WithIndex(i).
			WithToolComponent(sarif.NewToolComponentReference().WithName(taxonomies[of]).WithIndex(of))
	}
	for _, it := range r.Findings {
		owasp, title, _ := strings.Cut(it.OWASP, " ")
		kinds := []*sarif.ReportingDescriptorReference{taxon(taxonomyOWASP, owasp, title),
			taxon(taxonomyCWE, fmt.Sprint(it.CWE), fmt.Sprintf("CWE-%d", it.CWE))}
		id := it.rule()
		i, ok := rules[id]
		if !ok {
			i = len(rules)
			rules[id] = i
			driver.Rules = append(driver.Rules, it.sarifRule(kinds))
		}
		run.AddResult(it.sarifResult(i, kinds))
	}
	ended := r.Sweep.StartedAt
	if r.Sweep.EndedAt != nil {
		ended = *r.Sweep.EndedAt
	}
	run.AddInvocation(sarif.NewInvocation().WithExecutionSuccessful(len(r.Doubts) == 0).
		WithStartTimeUtc(r.Sweep.StartedAt.UTC().Format(time.RFC3339)).WithEndTimeUtc(ended.UTC().Format(time.RFC3339)))
	run.WithAutomationDetails(sarif.NewRunAutomationDetails().WithID("millgate/" + r.Sweep.Target + "/"))
	run.WithProperties(sarif.NewPropertyBag().Add("declaration", r.Declaration).Add("checked", r.Checked).
		Add("doubts", r.Doubts).Add("coverage", r.Coverage))
	doc := sarif.NewReport()
	doc.AddRun(run)
	return doc.PrettyWrite(w)
}

func words(s string) *sarif.MultiformatMessageString {
	return sarif.NewMultiformatMessageString().WithText(s)
}

// rule is the id of the rule that a finding is a result of: its cause, named for good.
func (it Item) rule() string {
	_, anchor, _ := strings.Cut(it.Docs, "#")
	if anchor == "" {
		return string(it.Kind)
	}
	return anchor
}

func (it Item) sarifRule(kinds []*sarif.ReportingDescriptorReference) *sarif.ReportingDescriptor {
	tags := []string{"security", "external/cwe/cwe-" + fmt.Sprint(it.CWE)}
	rule := sarif.NewReportingDescriptor().WithID(it.rule()).WithName(it.Name).WithShortDescription(words(it.Title)).
		WithFullDescription(words(sentenceOr(it.Means, it.Title))).
		WithHelp(words(strings.Join([]string{it.Advice, "How it is shown: " + it.Shown,
			"What would refute it: " + it.Refuted}, "\n\n"))).
		WithDefaultConfiguration(sarif.NewReportingConfiguration().WithLevel(levels[it.Severity])).
		WithProperties(sarif.NewPropertyBag().WithTags(tags).Add("security-severity", ranks[it.Severity]))
	for _, k := range kinds {
		rule.Relationships = append(rule.Relationships,
			sarif.NewReportingDescriptorRelationship().WithTarget(k).WithKinds([]string{"superset"}))
	}
	return rule
}

func sentenceOr(s, or string) string {
	if s == "" {
		return or
	}
	return s
}

func (it Item) sarifResult(rule int, kinds []*sarif.ReportingDescriptorReference) *sarif.Result {
	file := (&url.URL{Path: filepath.ToSlash(it.File)}).String()
	at := sarif.NewPhysicalLocation().WithArtifactLocation(sarif.NewArtifactLocation().WithURI(file)).
		WithRegion(sarif.NewRegion().WithStartLine(max(1, it.Line)))
	where := sarif.NewLogicalLocation().WithName(it.Where()).WithFullyQualifiedName(it.Where()).WithKind("resource")
	res := sarif.NewResult().WithRuleID(it.rule()).WithRuleIndex(rule).WithLevel(levels[it.Severity]).
		WithMessage(sarif.NewMessage().WithText(it.Title + ": " + it.Where() + ". " + it.Reason)).
		WithLocations([]*sarif.Location{sarif.NewLocation().WithPhysicalLocation(at).
			WithLogicalLocations([]*sarif.LogicalLocation{where})}).
		WithFingerprints(map[string]string{Fingerprint: it.ID}).
		WithPartialFingerprints(map[string]string{Fingerprint: it.ID}).WithTaxa(kinds).
		WithProperties(sarif.NewPropertyBag().Add("severity", it.Severity).Add("confidence", it.Confidence).
			Add("security-severity", ranks[it.Severity]).Add("callers", it.Callers).Add("inferred", it.Inferred).
			Add("routes", it.All()).Add("owners", orEmpty(it.Owners)))
	if b := baselines[it.State]; b != "" {
		res.WithBaselineState(b)
	}
	if it.Waived != nil {
		res.AddSuppression(sarif.NewSuppression().WithKind("external").WithStatus("accepted").
			WithJustification(it.Waived.String()))
	}
	return res
}
