package main

import (
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"strings"
	"time"

	cdx "github.com/CycloneDX/cyclonedx-go"
)

// partsList writes what a program of a version is built from, as CycloneDX 1.5 has it (ECMA-424's
// forerunner), dated by a day so that it is the same each time.
func partsList(w io.Writer, version, day string) error {
	if _, err := time.Parse(time.DateOnly, day); err != nil {
		return fmt.Errorf("-at: %q is not like 2026-11-30", day)
	}
	modules, err := modules()
	if err != nil {
		return err
	}
	packages, err := packages("web")
	if err != nil {
		return err
	}
	bom := cdx.NewBOM()
	self := cdx.Component{BOMRef: "pkg:generic/woodlark@" + version, Type: cdx.ComponentTypeApplication, Name: "woodlark", Version: version, PackageURL: "pkg:generic/woodlark@" + version, Licenses: &cdx.Licenses{{License: &cdx.License{ID: "Apache-2.0"}}}}
	bom.Metadata = &cdx.Metadata{Timestamp: day + "T00:00:00Z", Component: &self}
	var all []cdx.Component
	var refs []string
	for _, m := range modules {
		url := "pkg:golang/" + m.name + "@" + m.version
		all = append(all, cdx.Component{BOMRef: url, Type: cdx.ComponentTypeLibrary, Name: m.name, Version: m.version, PackageURL: url})
	}
	for _, p := range packages {
		url := "pkg:npm/" + strings.Replace(p.name, "@", "%40", 1) + "@" + p.version
		c := cdx.Component{BOMRef: url, Type: cdx.ComponentTypeLibrary, Name: p.name, Version: p.version, PackageURL: url}
		if sum, is := strings.CutPrefix(p.sum, "sha512-"); is {
			raw, err := base64.StdEncoding.DecodeString(sum)
			if err != nil {
				return fmt.Errorf("the sum of %s: %w", p.name, err)
			}
			c.Hashes = &[]cdx.Hash{{Algorithm: cdx.HashAlgoSHA512, Value: hex.EncodeToString(raw)}}
		}
		if p.licence != "" {
			c.Licenses = &cdx.Licenses{{Expression: p.licence}}
		}
		all = append(all, c)
	}
	for _, c := range all {
		refs = append(refs, c.BOMRef)
	}
	bom.Components = &all
	bom.Dependencies = &[]cdx.Dependency{{Ref: self.BOMRef, Dependencies: &refs}}
	e := cdx.NewBOMEncoder(w, cdx.BOMFileFormatJSON)
	e.SetPretty(true)
	return e.EncodeVersion(bom, cdx.SpecVersion1_5)
}
