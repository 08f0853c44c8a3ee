// Package yamlfile reads YAML files that people write: strictly, with the line
// of what is wrong, and whatever they hold.
//
//	var f struct { Watches []Watch `yaml:"watches"` }
//	err := yamlfile.Decode(data, &f)
package yamlfile

import (
	"bytes"
	"errors"
	"fmt"
	"io"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// ErrYAML is wrapped by every error about what a file holds.
var ErrYAML = errors.New("not valid YAML")

// Decode reads a file into a struct. Keys that the struct does not have are an
// error that names their line. An empty file is an empty struct.
func Decode(data []byte, into any) (err error) {
	defer guard(&err)
	err = yaml.NewDecoder(bytes.NewReader(data), yaml.DisallowUnknownField()).Decode(into)
	if err != nil && !errors.Is(err, io.EOF) {
		return fmt.Errorf("%w: %s", ErrYAML, yaml.FormatError(err, false, true))
	}
	return nil
}

// Encode writes a value as a file, which Decode reads.
func Encode(v any) ([]byte, error) { return yaml.MarshalWithOptions(v, yaml.IndentSequence(true)) }

// Tree is a file as it was written, to find lines in.
type Tree struct{ file *ast.File }

// Parse reads a file as it was written.
func Parse(data []byte) (t Tree, err error) {
	defer guard(&err)
	file, err := parser.ParseBytes(data, 0)
	if err != nil {
		return Tree{}, fmt.Errorf("%w: %s", ErrYAML, yaml.FormatError(err, false, true))
	}
	return Tree{file}, nil
}

// Line is the line of a place such as "$.links[2].delay"; 0 when there is no
// such place.
func (t Tree) Line(place string) (line int) {
	defer func() {
		if recover() != nil {
			line = 0
		}
	}()
	path, err := yaml.PathString(place)
	if err != nil {
		return 0
	}
	node, err := path.FilterFile(t.file)
	if err != nil || node.GetToken() == nil {
		return 0
	}
	return node.GetToken().Position.Line
}

// Pair is a key of a file's top level, its value as it was written, and its line.
type Pair struct {
	Key, Value string
	Line       int
}

// Pairs are the keys of the top level in their order.
func (t Tree) Pairs() []Pair {
	var pairs []Pair
	for _, document := range t.file.Docs {
		mapping, ok := document.Body.(*ast.MappingNode)
		if !ok {
			continue
		}
		for _, v := range mapping.Values {
			pairs = append(pairs, Pair{Key: v.Key.GetToken().Value, Value: v.Value.String(), Line: v.Key.GetToken().Position.Line})
		}
	}
	return pairs
}

// guard turns a panic of the YAML package, which some broken files bring about,
// into an error.
func guard(err *error) {
	if r := recover(); r != nil {
		*err = fmt.Errorf("%w: it is broken in a way that cannot be told more closely", ErrYAML)
	}
}
