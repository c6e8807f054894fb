// Package spreadsheet keeps cells of tables from being taken for formulas by the
// programs in which people open them.
package spreadsheet

import "strings"

// formulas begin what a spreadsheet takes for a formula, and would run.
const formulas = "=+-@\t\r"

// Guard puts an apostrophe before what a spreadsheet would take for a formula, as it
// does itself to tell a text. One that stands there already gets another, so that
// Unguard gives the cell as it was.
func Guard(cell string) string {
	rest := strings.TrimLeft(cell, "'")
	if rest != "" && strings.ContainsRune(formulas, rune(rest[0])) {
		return "'" + cell
	}
	return cell
}

// Unguard gives a cell as it was before Guard.
func Unguard(cell string) string {
	if rest := strings.TrimLeft(cell, "'"); len(rest) < len(cell) && rest != "" && strings.ContainsRune(formulas, rune(rest[0])) {
		return cell[1:]
	}
	return cell
}

// GuardAll is Guard for all cells of a row, in place.
func GuardAll(row []string) []string {
	for i, cell := range row {
		row[i] = Guard(cell)
	}
	return row
}
