package demo

import (
	"bytes"
	"fmt"
)

// tideTableFile is the one document among the uploads.
const tideTableFile = "uploads/tide-table.pdf"

// document makes a PDF of one page (ISO 32000-1, 7.5: header, body, cross-reference
// table, trailer).
func document(title string, lines ...string) []byte {
	var page bytes.Buffer
	fmt.Fprintf(&page, "BT /F1 20 Tf 60 760 Td (%s) Tj /F1 12 Tf", title)
	for _, l := range lines {
		fmt.Fprintf(&page, " 0 -24 Td (%s) Tj", l)
	}
	page.WriteString(" ET")
	objects := []string{
		"<< /Type /Catalog /Pages 2 0 R >>",
		"<< /Type /Pages /Kids [3 0 R] /Count 1 >>",
		"<< /Type /Page /Parent 2 0 R /MediaBox [0 0 595 842] /Contents 4 0 R /Resources << /Font << /F1 5 0 R >> >> >>",
		fmt.Sprintf("<< /Length %d >>\nstream\n%s\nendstream", page.Len(), page.String()),
		"<< /Type /Font /Subtype /Type1 /BaseFont /Times-Roman >>",
	}
	var b bytes.Buffer
	b.WriteString("%PDF-1.4\n")
	at := make([]int, len(objects))
	for i, o := range objects {
		at[i] = b.Len()
		fmt.Fprintf(&b, "%d 0 obj\n%s\nendobj\n", i+1, o)
	}
	xref := b.Len()
	fmt.Fprintf(&b, "xref\n0 %d\n0000000000 65535 f \n", len(objects)+1)
	for _, n := range at {
		fmt.Fprintf(&b, "%010d 00000 n \n", n)
	}
	fmt.Fprintf(&b, "trailer\n<< /Size %d /Root 1 0 R >>\nstartxref\n%d\n%%%%EOF\n", len(objects)+1, xref)
	return b.Bytes()
}

func tideTable() []byte {
	return document("Tides at the slipway, 2026", "High water, first Sunday of the month", "April 10:42   May 11:15   June 9:58", "July 10:31   August 11:04   September 9:47")
}
