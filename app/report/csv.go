package report

import (
	"encoding/csv"
	"fmt"
	"io"
	"strings"
	"time"
)

// Columns are those of the table that CSV writes.
var Columns = []string{"id", "kind", "severity", "confidence", "state", "title", "where", "routes", "callers",
	"inferred", "owners", "rung", "owasp", "cwe", "reason", "advice", "waived until", "waived because", "declared in"}

// CSV writes a finding in each line (RFC 4180). A cell never begins with what a spreadsheet takes for a formula: it
// gets a quotation mark in front.
func (r *Report) CSV(w io.Writer) error {
	c := csv.NewWriter(w)
	c.UseCRLF = true
	rows := [][]string{Columns}
	for _, it := range r.Findings {
		until, because := "", ""
		if it.Waived != nil {
			until, because = it.Waived.Until.Format(time.DateOnly), it.Waived.Reason
		}
		rows = append(rows, []string{it.ID, it.Name, string(it.Severity), string(it.Confidence), string(it.State),
			it.Title, it.Where(), strings.Join(it.All(), "; "), strings.Join(it.Callers, "; "),
			strings.Join(it.Inferred, "; "), strings.Join(it.Owners, "; "), fmt.Sprint(it.Rung), it.OWASP,
			fmt.Sprint(it.CWE), it.Reason, it.Advice, until, because, fmt.Sprintf("%s:%d", it.File, it.Line)})
	}
	for _, row := range rows {
		for i := range row {
			row[i] = plainCell(row[i])
		}
		if err := c.Write(row); err != nil {
			return err
		}
	}
	c.Flush()
	return c.Error()
}

// plainCell is text that no spreadsheet computes.
func plainCell(s string) string {
	if s != "" && strings.ContainsRune("=+-@\t\r\n|%", rune(s[0])) {
		return "'" + s
	}
	return s
}
