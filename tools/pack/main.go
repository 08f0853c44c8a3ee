// Command pack makes a Debian package of a built program. Nothing in it depends on when or where it
// is made: the same program gives the same package.
//
//	go run ./tools/pack -program dist/woodlark-linux-amd64 -arch amd64 -version 0.1.0 -at 2026-11-30 -papers DIR -to dist
//
// The folder of papers holds man1/, bash, zsh, fish and sbom.json, as script/package makes them.
package main

import (
	"bytes"
	"compress/gzip"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/goreleaser/nfpm/v2"
	_ "github.com/goreleaser/nfpm/v2/deb"
	"github.com/goreleaser/nfpm/v2/files"
)

func main() {
	var p pack
	flag.StringVar(&p.program, "program", "", "the built program")
	flag.StringVar(&p.arch, "arch", "", "Debian's name of its architecture")
	flag.StringVar(&p.version, "version", "", "of the program")
	at := flag.String("at", "", "day that everything in the package is dated with")
	flag.StringVar(&p.papers, "papers", "", "folder of manual pages, completions and parts")
	flag.StringVar(&p.packed, "compression", "xz", "how it is packed: xz, zstd, gzip or none")
	flag.StringVar(&p.to, "to", "", "folder to write to")
	flag.Parse()
	var err error
	if p.at, err = time.Parse(time.DateOnly, *at); err == nil {
		err = p.make()
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "pack:", err)
		os.Exit(1)
	}
}

type pack struct {
	program, arch, version, papers, to, packed string
	at                                         time.Time
	list                                       files.Contents
}

const description = `what paths between hosts are like, and which got worse
 Woodlark measures reachability, latency, jitter, packet loss and throughput
 between hosts, stores what is normal for each path, and says which paths got
 worse: since when, by how much, where on the way, and why. This package has
 the service with its console, the agent, and the command line.`

func (p *pack) make() error {
	if err := p.gather(); err != nil {
		return err
	}
	info := nfpm.WithDefaults(&nfpm.Info{
		Name: "woodlark", Arch: p.arch, Platform: "linux", Version: p.version, Release: "1",
		Section: "net", Priority: "optional", Maintainer: "Woodlark's developers <developers@woodlark.example>",
		Description: description, Homepage: "https://woodlark.example/", License: "Apache-2.0", MTime: p.at,
		Overridables: nfpm.Overridables{
			Depends:  []string{"passwd", "mariadb-server-core (>= 1:10.11)", "mariadb-client-core (>= 1:10.11)"},
			Scripts:  nfpm.Scripts{PostInstall: "packaging/deb/postinst", PreRemove: "packaging/deb/prerm", PostRemove: "packaging/deb/postrm"},
			Deb:      nfpm.Deb{Compression: p.packed},
			Contents: p.list,
		},
	})
	if err := nfpm.PrepareForPackager(info, "deb"); err != nil {
		return err
	}
	packager, err := nfpm.Get("deb")
	if err != nil {
		return err
	}
	var out bytes.Buffer
	if err := packager.Package(info, &out); err != nil {
		return err
	}
	name := filepath.Join(p.to, fmt.Sprintf("woodlark_%s_%s.deb", p.version, p.arch))
	if err := os.WriteFile(name, out.Bytes(), 0o644); err != nil {
		return err
	}
	fmt.Println(name)
	return nil
}

// gather lists what is in the package.
func (p *pack) gather() error {
	p.add(p.program, "/usr/bin/woodlark", 0o755, "")
	p.add("packaging/woodlark.service", "/lib/systemd/system/woodlark.service", 0o644, "")
	p.add("packaging/woodlark-agent.service", "/lib/systemd/system/woodlark-agent.service", 0o644, "")
	p.add("packaging/woodlark.yaml", "/etc/woodlark/woodlark.yaml", 0o644, files.TypeConfigNoReplace)
	p.add(filepath.Join(p.papers, "bash"), "/usr/share/bash-completion/completions/woodlark", 0o644, "")
	p.add(filepath.Join(p.papers, "zsh"), "/usr/share/zsh/vendor-completions/_woodlark", 0o644, "")
	p.add(filepath.Join(p.papers, "fish"), "/usr/share/fish/vendor_completions.d/woodlark.fish", 0o644, "")
	p.add(filepath.Join(p.papers, "sbom.json"), "/usr/share/doc/woodlark/woodlark.cdx.json", 0o644, "")
	p.add("packaging/deb/copyright", "/usr/share/doc/woodlark/copyright", 0o644, "")
	for _, name := range []string{"guide.md", "settings.md", "measures.md"} {
		p.add(filepath.Join("docs", name), "/usr/share/doc/woodlark/"+name, 0o644, "")
	}
	packed := []struct{ from, to string }{
		{"internal/thirdparty/notices.txt", "/usr/share/doc/woodlark/notices.txt.gz"},
		{"packaging/deb/changelog", "/usr/share/doc/woodlark/changelog.Debian.gz"},
	}
	pages, err := filepath.Glob(filepath.Join(p.papers, "man1", "*.1"))
	if err != nil || len(pages) == 0 {
		return errors.Join(err, fmt.Errorf("there are no manual pages in %s", p.papers))
	}
	for _, page := range pages {
		packed = append(packed, struct{ from, to string }{page, "/usr/share/man/man1/" + filepath.Base(page) + ".gz"})
	}
	for _, x := range packed {
		if err := p.addPacked(x.from, x.to); err != nil {
			return err
		}
	}
	return nil
}

func (p *pack) add(from, to string, mode os.FileMode, kind string) {
	p.list = append(p.list, &files.Content{Source: from, Destination: to, Type: kind, FileInfo: &files.ContentFileInfo{Mode: mode, Owner: "root", Group: "root", MTime: p.at}})
}

// addPacked packs a file as Debian wants it: as small as can be, and without a name or a time.
func (p *pack) addPacked(from, to string) error {
	data, err := os.ReadFile(from)
	if err != nil {
		return err
	}
	var b bytes.Buffer
	w, err := gzip.NewWriterLevel(&b, gzip.BestCompression)
	if err != nil {
		return err
	}
	if _, err := w.Write(data); err != nil {
		return err
	}
	if err := w.Close(); err != nil {
		return err
	}
	made := filepath.Join(p.papers, "packed", filepath.Base(to))
	if err := errors.Join(os.MkdirAll(filepath.Dir(made), 0o755), os.WriteFile(made, b.Bytes(), 0o644)); err != nil {
		return err
	}
	p.add(made, to, 0o644, "")
	return nil
}
