// Command notices gathers the licences of everything that the program and its console are built
// with, as they stand in the sources of each.
//
//	go run ./tools/notices > internal/thirdparty/notices.txt
//	go run ./tools/notices -parts 0.1.0 -at 2026-11-30 > woodlark.cdx.json
package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
)

// piece is somebody's work that is built in.
type piece struct {
	name, version, folder string
	sum, licence          string // of a package of the console, where its lock file says
}

func main() {
	parts := flag.String("parts", "", "write a list of parts of this version of the program instead")
	at := flag.String("at", "", "day of that list")
	flag.Parse()
	write := run
	if *parts != "" {
		write = func(w io.Writer) error { return partsList(w, *parts, *at) }
	}
	if err := write(os.Stdout); err != nil {
		fmt.Fprintln(os.Stderr, "notices:", err)
		os.Exit(1)
	}
}

func run(w io.Writer) error {
	modules, err := modules()
	if err != nil {
		return err
	}
	packages, err := packages("web")
	if err != nil {
		return err
	}
	goroot, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		return fmt.Errorf("ask for Go's own folder: %w", err)
	}
	all := append([]piece{{name: "Go, its standard library", folder: strings.TrimSpace(string(goroot))}}, modules...)
	all = append(all, packages...)
	var out bytes.Buffer
	fmt.Fprintf(&out, "Woodlark is built with the work of others, under these licences.\n")
	// What several share stands there once.
	under, order := map[string][]string{}, []string{}
	for _, p := range all {
		texts, err := licences(p.folder)
		if err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}
		text := strings.Join(texts, "\n\n")
		if under[text] == nil {
			order = append(order, text)
		}
		under[text] = append(under[text], strings.TrimSpace(p.name+" "+p.version))
	}
	for _, text := range order {
		fmt.Fprintf(&out, "\n%s\n%s\n\n%s\n", strings.Repeat("=", 78), strings.Join(under[text], "\n"), text)
	}
	_, err = w.Write(out.Bytes())
	return err
}

// modules are those that some package of the program is from.
func modules() ([]piece, error) {
	out, err := exec.Command("go", "list", "-deps", "-json=Module", "./cmd/woodlark").Output()
	if err != nil {
		return nil, fmt.Errorf("list what the program is built from: %w", err)
	}
	var list []piece
	for d := json.NewDecoder(bytes.NewReader(out)); ; {
		var p struct {
			Module *struct {
				Path, Version, Dir string
				Main               bool
			}
		}
		if err := d.Decode(&p); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			return nil, err
		}
		if m := p.Module; m != nil && !m.Main && !slices.ContainsFunc(list, func(x piece) bool { return x.name == m.Path }) {
			list = append(list, piece{name: m.Path, version: m.Version, folder: m.Dir})
		}
	}
	slices.SortFunc(list, func(a, b piece) int { return strings.Compare(a.name, b.name) })
	return list, nil
}

// packages are those that the console is built from, by its lock file: what only builds it is none
// of it, but for the outlines of land, which it holds.
func packages(web string) ([]piece, error) {
	data, err := os.ReadFile(filepath.Join(web, "package-lock.json"))
	if err != nil {
		return nil, err
	}
	var lock struct {
		Packages map[string]struct {
			Version, License, Integrity string
			Dev                         bool
		}
	}
	if err := json.Unmarshal(data, &lock); err != nil {
		return nil, err
	}
	var list []piece
	for place, p := range lock.Packages {
		name, is := strings.CutPrefix(place, "node_modules/")
		if !is || p.Dev && name != "world-atlas" && name != "tailwindcss" {
			continue
		}
		folder := filepath.Join(web, place)
		if _, err := os.Stat(folder); errors.Is(err, fs.ErrNotExist) {
			continue // for another platform
		}
		list = append(list, piece{name, p.Version, folder, p.Integrity, p.License})
	}
	slices.SortFunc(list, func(a, b piece) int { return strings.Compare(a.name, b.name) })
	return list, nil
}

var named = regexp.MustCompile(`(?i)^(licen[cs]e|copying|notice|patents)([-_.].*)?$`)

// licences are the texts in a folder that say under which terms its work may be handed on.
func licences(folder string) (texts []string, err error) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if e.IsDir() || !named.MatchString(e.Name()) {
			continue
		}
		data, err := os.ReadFile(filepath.Join(folder, e.Name()))
		if err != nil {
			return nil, err
		}
		texts = append(texts, strings.TrimSpace(strings.ReplaceAll(string(data), "\r\n", "\n")))
	}
	if len(texts) == 0 { // a package may only name its licence
		data, err := os.ReadFile(filepath.Join(folder, "package.json"))
		var p struct{ License, Author any }
		if err != nil || json.Unmarshal(data, &p) != nil || p.License == nil {
			return nil, errors.New("it has no licence")
		}
		texts = append(texts, fmt.Sprintf("Licence: %v", p.License))
	}
	return texts, nil
}
