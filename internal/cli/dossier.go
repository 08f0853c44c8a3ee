package cli

import (
	"errors"
	"fmt"
	"net/url"
	"os"
	"strings"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/dossier"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

var dossierCommand = command{
	name: "dossier", summary: "evidence for somebody else in one file, signed; and whether such a file is whole",
	usage: "make [-from AGENT -to TARGET] [-last 24h | -since TIME | -between FROM,TO] -out FILE [options]\ncheck FILE [-key FINGERPRINT]\nkey",
	example: "woodlark dossier make -from northquay -to terminal.holm.example -last 48h -out holm.zip\nwoodlark dossier make -tags islands -last 7d -mask -out islands.zip\n" +
		"woodlark dossier check holm.zip",
	more: "It has the report (HTML, PDF), readings, routes both ways, runs, captures, conditions, and a signed\nlist of their SHA-256. 'check' needs no service; its status is 1 when anything was changed.",
	run:  runDossier,
}

type dossierOptions struct {
	one                        onePath
	span                       spanOf
	objective, title, out, key string
	mask                       bool
	of                         chosen
}

func runDossier(c *call) error {
	var o dossierOptions
	c.withFormat()
	c.withService()
	f := c.flags
	c.withOnePath(&o.one, "of make: ")
	c.withSpan(&o.span, "of make: ")
	f.StringVar(&o.objective, "objective", "", "of make: hold paths against this objective")
	f.StringVar(&o.title, "title", "", "of make: title of one's own")
	f.BoolVar(&o.mask, "mask", false, "of make: replace addresses of one's own, each by another everywhere alike")
	f.StringVar(&o.out, "out", "", "of make: file to write")
	f.StringVar(&o.key, "key", "", "of check: fingerprint of the key that is to have signed it, as its sender tells it")
	c.withChoice(&o.of, "of make: ")
	if err := c.parse(); err != nil {
		return err
	}
	if len(c.args) == 0 {
		return wrongCall("say what: make, check FILE or key")
	}
	most := map[string]int{"make": 1, "check": 2, "key": 1}[c.args[0]]
	switch {
	case most == 0:
		return wrongCall("%q is none of make, check, key", short(c.args[0]))
	case len(c.args) > most:
		return wrongCall("dossier %s has no use for %q", c.args[0], short(c.args[most]))
	}
	if err := c.belong(c.args[0], map[string]string{"make": "from to family via last since between objective title mask out sites agents targets tags labels", "check": "key"}); err != nil {
		return err
	}
	switch c.args[0] {
	case "check":
		if len(c.args) < 2 {
			return wrongCall("check needs a file")
		}
		return c.checkDossier(c.args[1], o.key)
	case "key":
		return c.dossierKey()
	}
	return c.makeDossier(o)
}

func (c *call) dossierKey() error {
	api, err := c.client()
	if err != nil {
		return err
	}
	var key apitype.DossierKey
	if err := api.Get(c.ctx, "/dossiers/key", nil, &key); err != nil {
		return err
	}
	var doc document.Document
	doc.Say("%s", key.Fingerprint)
	doc.Records = document.RecordsOf([]string{"fingerprint"}, [][]string{{key.Fingerprint}})
	return c.write(key, doc)
}

func (c *call) makeDossier(o dossierOptions) error {
	if o.out == "" {
		return wrongCall("say into which file: -out FILE")
	}
	query, err := o.span.query(c)
	if err != nil {
		return err
	}
	api, err := c.client()
	if err != nil {
		return err
	}
	path, err := o.one.id(c, api)
	if err != nil {
		return err
	}
	o.into(query, path)
	file, err := os.OpenFile(o.out, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if errors.Is(err, os.ErrExist) {
		return wrongCall("%s is there already; name another file, or remove it", o.out)
	}
	if err != nil {
		return err
	}
	err = errors.Join(api.Fetch(c.ctx, "/dossiers/file", query, file), file.Close())
	if err != nil {
		_ = os.Remove(o.out)
		return err
	}
	return c.checkDossier(o.out, "")
}

func (o dossierOptions) into(query url.Values, path string) {
	o.of.into(query)
	for name, v := range map[string]string{"path_ids": path, "objective": o.objective, "title": o.title} {
		if v != "" {
			query.Set(name, v)
		}
	}
	if o.mask {
		query.Set("mask", "true")
	}
}

// checkDossier tells whether a dossier is whole, and who signed it.
func (c *call) checkDossier(name, key string) error {
	file, err := os.Open(name)
	if err != nil {
		return wrongCall("%v", err)
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return err
	}
	v, err := dossier.Check(file, info.Size())
	if err != nil {
		return wrongCall("%s: %v", name, err)
	}
	if key != "" && strings.TrimPrefix(key, "SHA256:") != strings.TrimPrefix(v.Fingerprint, "SHA256:") {
		v.Wrong = append(v.Wrong, "another key signed it than "+short(key))
	}
	var doc document.Document
	if len(v.Wrong) == 0 {
		doc.Say("%s %s", document.Strong(name), "is whole: each file is as it was signed.")
	} else {
		doc.Say("%s %s", document.Strong(name), document.Lost("is not as it was signed."))
		for _, w := range v.Wrong {
			doc.Say("  %s", document.Lost(w))
		}
	}
	doc.Field("made", "%s", report.When(v.MadeAt, zone()))
	doc.Field("key", "%s%s", v.Fingerprint, document.Faint("  compare it with what the sender tells"))
	rows, records := [][]string{}, [][]string{}
	for _, f := range v.Files {
		says := f.Says
		if says != "whole" {
			says = document.Lost(says)
		}
		rows = append(rows, []string{f.Name, fmt.Sprint(f.Bytes), says})
		records = append(records, []string{f.Name, fmt.Sprint(f.Bytes), f.SHA256, f.Says})
	}
	doc.Add(document.Table{Indent: 2, Columns: []document.Column{{Name: "file"}, {Name: "bytes", Right: true}, {Name: ""}}, Rows: rows})
	doc.Records = document.RecordsOf([]string{"file", "bytes", "sha256", "state"}, records)
	if err := c.write(v, doc); err != nil {
		return err
	}
	if len(v.Wrong) > 0 {
		return exit{status: exitNotGood}
	}
	return nil
}
