package keyfile

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

// findJSON follows a key through objects and arrays.
func findJSON(content []byte, key string) (v value, err error) {
	d := json.NewDecoder(bytes.NewReader(content))
	d.UseNumber()
	found, err := jsonValue(d, strings.Split(key, "."), func(t json.Token, end int) {
		begin := end
		switch x := t.(type) {
		case string:
			v.text = x
			begin = jsonStringBegin(content, end)
		case json.Number:
			v.text = x.String()
			begin = end - len(v.text)
		case bool:
			v.text = strconv.FormatBool(x)
			begin = end - len(v.text)
		default:
			begin = end - len("null")
		}
		v.from, v.to = begin, end
		_, isNumber := t.(json.Number)
		v.write = func(text string) string {
			if _, err := strconv.Atoi(text); err == nil && isNumber {
				return text
			}
			var b bytes.Buffer
			e := json.NewEncoder(&b)
			e.SetEscapeHTML(false)
			_ = e.Encode(text) // a text is always written
			return strings.TrimSpace(b.String())
		}
	})
	if err != nil && !errors.Is(err, io.EOF) {
		return v, fmt.Errorf("it cannot be read as JSON: %w", err)
	}
	if !found {
		return v, ErrNoKey
	}
	return v, nil
}

// jsonStringBegin gives where the text begins that ends at end.
func jsonStringBegin(b []byte, end int) int {
	for i := end - 2; i >= 0; i-- {
		if b[i] != '"' {
			continue
		}
		slashes := 0
		for i-1-slashes >= 0 && b[i-1-slashes] == '\\' {
			slashes++
		}
		if slashes%2 == 0 {
			return i
		}
	}
	return end
}

// jsonValue reads one value and calls take for the scalar under the path.
func jsonValue(d *json.Decoder, p []string, take func(json.Token, int)) (found bool, err error) {
	t, err := d.Token()
	if err != nil {
		return false, err
	}
	delim, isDelim := t.(json.Delim)
	if !isDelim {
		if len(p) == 0 {
			take(t, int(d.InputOffset()))
		}
		return len(p) == 0, nil
	}
	for n := 0; d.More(); n++ {
		name := strconv.Itoa(n)
		if delim == '{' {
			k, err := d.Token()
			if err != nil {
				return found, err
			}
			name, _ = k.(string)
		}
		inner := []string{"\x00"}
		if len(p) > 0 && p[0] == name {
			inner = p[1:]
		}
		ok, err := jsonValue(d, inner, take)
		if err != nil {
			return found, err
		}
		found = found || ok && inner != nil
	}
	_, err = d.Token()
	return found, err
}

// findYAML follows a key through mappings and lists.
func findYAML(content []byte, key string) (v value, err error) {
	var doc yaml.Node
	if err := yaml.Unmarshal(content, &doc); err != nil {
		return v, fmt.Errorf("it cannot be read as YAML: %w", err)
	}
	node := &doc
	if node.Kind == yaml.DocumentNode && len(node.Content) > 0 {
		node = node.Content[0]
	}
	for _, part := range strings.Split(key, ".") {
		if node = below(node, part); node == nil {
			return v, ErrNoKey
		}
	}
	if node.Kind != yaml.ScalarNode || node.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0 {
		return v, fmt.Errorf("it is not a value on one line")
	}
	v.text = node.Value
	v.from = offset(content, node.Line, node.Column)
	v.to = v.from + len(node.Value)
	v.write = func(t string) string {
		if isBare(t) || isNumber(t) && node.Tag == "!!int" {
			return t
		}
		return "'" + strings.ReplaceAll(t, "'", "''") + "'"
	}
	if node.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle) != 0 {
		end := yamlQuoteEnd(content[v.from:])
		v.to = v.from + end
		v.write = func(t string) string { return "'" + strings.ReplaceAll(t, "'", "''") + "'" }
		if node.Style&yaml.DoubleQuotedStyle != 0 {
			v.write = func(t string) string { return escaped(t, "\"\\") }
		}
	}
	if v.to > len(content) || node.Tag == "!!null" && v.text == "" {
		v.to = v.from
	}
	return v, nil
}

// isBare reports whether a text needs no quotes to be a text.
func isBare(t string) bool {
	var n yaml.Node
	if !simple(t) || yaml.Unmarshal([]byte(t), &n) != nil || len(n.Content) != 1 {
		return false
	}
	return n.Content[0].Kind == yaml.ScalarNode && n.Content[0].Tag == "!!str" && n.Content[0].Value == t
}

func isNumber(t string) bool {
	_, err := strconv.Atoi(t)
	return err == nil
}

// below gives the node under a key of a mapping, or at a place of a list.
func below(n *yaml.Node, part string) *yaml.Node {
	if n.Kind == yaml.AliasNode {
		n = n.Alias
	}
	switch n.Kind {
	case yaml.MappingNode:
		for i := 0; i+1 < len(n.Content); i += 2 {
			if n.Content[i].Value == part {
				return n.Content[i+1]
			}
		}
	case yaml.SequenceNode:
		if i, err := strconv.Atoi(part); err == nil && i >= 0 && i < len(n.Content) {
			return n.Content[i]
		}
	}
	return nil
}

// offset gives the byte at which a line and a column, counted in characters
// from 1, begin.
func offset(content []byte, line, column int) int {
	at := 0
	for ; line > 1; line-- {
		n := bytes.IndexByte(content[at:], '\n')
		if n < 0 {
			return len(content)
		}
		at += n + 1
	}
	for i := range string(content[at:]) {
		if column--; column == 0 {
			return at + i
		}
	}
	return len(content)
}

// yamlQuoteEnd gives the length of the quoted text at the beginning of b.
func yamlQuoteEnd(b []byte) int {
	for i := 1; i < len(b); i++ {
		switch {
		case b[0] == '"' && b[i] == '\\':
			i++
		case b[i] == b[0] && b[0] == '\'' && i+1 < len(b) && b[i+1] == '\'':
			i++
		case b[i] == b[0]:
			return i + 1
		}
	}
	return len(b)
}
