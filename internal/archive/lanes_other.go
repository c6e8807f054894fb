//go:build !amd64

package archive

// hashTogether leaves all to the standard library, which is fast here.
func hashTogether(_ []byte, parts []part) (rest []part, wait func()) { return parts, func() {} }
