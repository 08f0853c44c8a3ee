package cli

import (
	"bytes"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/report/document"
	"woodlark.example/internal/service/boards"
	"woodlark.example/internal/yamlfile"
)

var boardCommand = command{
	name: "board", summary: "pages of one's own from parts, with the map of sites: list, show, apply, export, remove",
	usage:   "[list]\nshow NAME [-out FILE]\nexport [NAME …]\napply FILE\nremove NAME",
	example: "woodlark board show Sites\nwoodlark board show Voice -format pdf -out voice.pdf\nwoodlark board export Sites > sites.yaml\nwoodlark board apply sites.yaml",
	more:    boardHelp(),
	run:     runBoard,
}

func boardHelp() string {
	var b strings.Builder
	b.WriteString("A file of boards is YAML: boards, each with a name and parts; a part has a kind and what it needs:\n")
	for _, k := range boards.Kinds() {
		fmt.Fprintf(&b, "  %-10s %s\n", k, partHelp[k])
	}
	b.WriteString("sites, agents, labels (of agents), targets and tags choose the paths of a part; width is in columns, of which there\nare 12, height in rows. A board with shared_with, a list of names, is seen by these people and administrators only. 'apply' makes and changes the boards of a file, and leaves others alone.")
	return b.String()
}

// partHelp says what each kind of part is for.
var partHelp = map[boards.Kind]string{boards.States: "how many paths are in which state", boards.Worst: "what is not as it usually is (most)", boards.Plot: "one path over time (from, to, family, via, last)", boards.Matrix: "a measure from agents to targets (measure: rtt, jitter, loss, mos)",
	boards.Trend: "a measure over many paths (measure: rtt, loss, mos; last)", boards.Voice: "how calls would sound (most)", boards.Map: "sites where they are, and the paths between them", boards.Incidents: "what several paths have in common now", boards.Text: "a text (text)"}

type boardsFile struct {
	Boards []apitype.BoardSpec `yaml:"boards"`
}

func runBoard(c *call) error {
	var out string
	c.withFormat()
	c.formats = []string{"html", "pdf"}
	c.withService()
	c.flags.StringVar(&out, "out", "", "of show: file to write it to; the output when left out")
	if err := c.parse(); err != nil {
		return err
	}
	verb, needs := "list", map[string]int{"list": 0, "show": 1, "apply": 1, "remove": 1, "export": 0}
	if len(c.args) > 0 && c.args[0] == "export" {
		verb = "export"
	} else {
		var err error
		if verb, err = c.verbOf(needs); err != nil {
			return err
		}
	}
	if err := c.belong(verb, map[string]string{"show": "out"}); err != nil {
		return err
	}
	if verb != "show" && (c.format == "html" || c.format == "pdf") {
		return wrongCall("%s is for 'board show'", c.format)
	}
	api, err := c.client()
	if err != nil {
		return err
	}
	switch verb {
	case "show":
		return c.showBoard(api, c.args[1], out)
	case "remove":
		return api.Do(c.ctx, http.MethodDelete, "/boards/"+client.Segment(c.args[1]), nil, nil)
	case "apply":
		return c.applyBoards(api, c.args[1])
	}
	all := []apitype.Board{}
	if err := api.Get(c.ctx, "/boards", nil, &all); err != nil {
		return err
	}
	if verb == "export" {
		return c.exportBoards(all, c.args[1:])
	}
	return c.write(all, boardsRead(all).OrSay(len(all), "There is no board. 'woodlark help board' says how one is made."))
}

func (c *call) showBoard(api *client.Client, name, out string) error {
	if c.format == "pdf" && out == "" {
		return wrongCall("a PDF needs a file: give -out FILE")
	}
	var file bytes.Buffer
	if err := api.Fetch(c.ctx, "/boards/"+client.Segment(name)+"/file", url.Values{"format": {c.format}}, &file); err != nil {
		return err
	}
	return c.hand(&file, out, "board")
}

// applyBoards makes and changes the boards of a file. One that cannot be is told before any is
// kept.
func (c *call) applyBoards(api *client.Client, name string) error {
	text, err := c.fileOf(name)
	if err != nil {
		return err
	}
	var file boardsFile
	if err := yamlfile.Decode([]byte(text), &file); err != nil {
		return exit{exitWrongCall, fmt.Errorf("%s is not a file of boards: %w", name, err)}
	}
	if len(file.Boards) == 0 {
		return wrongCall("%s names no boards: it needs 'boards:' with a list of name and parts", name)
	}
	names := map[string]bool{}
	for _, b := range file.Boards {
		if err := boards.Check(slices.Clone(b.Parts)); err != nil {
			return wrongCall("%s, board %q: %v", name, short(b.Name), err)
		}
		if names[strings.ToLower(b.Name)] {
			return wrongCall("%s: board %q is there twice", name, short(b.Name))
		}
		names[strings.ToLower(b.Name)] = true
	}
	var kept []apitype.Board
	for _, b := range file.Boards {
		var was, now apitype.Board
		err := api.Get(c.ctx, "/boards/"+client.Segment(b.Name), nil, &was)
		var problem *client.Problem
		switch {
		case err == nil:
			err = api.Do(c.ctx, http.MethodPut, "/boards/"+client.Segment(was.ID), apitype.BoardChange{BoardSpec: b, Revision: was.Revision}, &now)
		case errors.As(err, &problem) && problem.Status == http.StatusNotFound:
			err = api.Do(c.ctx, http.MethodPost, "/boards", b, &now)
		}
		if err != nil {
			return fmt.Errorf("board %q: %w; %d before it are kept", b.Name, err, len(kept))
		}
		kept = append(kept, now)
	}
	return c.write(kept, boardsRead(kept))
}

// exportBoards writes boards as a file that apply reads.
func (c *call) exportBoards(all []apitype.Board, names []string) error {
	for _, n := range names {
		if !slices.ContainsFunc(all, func(b apitype.Board) bool { return strings.EqualFold(b.Name, n) }) {
			return wrongCall("there is no board %q", short(n))
		}
	}
	file := boardsFile{Boards: []apitype.BoardSpec{}}
	for _, b := range all {
		if len(names) == 0 || slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(b.Name, n) }) {
			file.Boards = append(file.Boards, b.BoardSpec)
		}
	}
	switch c.format {
	case "json":
		return document.JSON(c.out, file.Boards)
	case "csv":
		return wrongCall("boards are exported as text (YAML, for 'board apply') or json")
	}
	text, err := yamlfile.Encode(file)
	if err != nil {
		return err
	}
	_, err = c.out.Write(text)
	return err
}

func boardsRead(list []apitype.Board) document.Document {
	var rows, records [][]string
	for _, b := range list {
		kinds := make([]string, len(b.Parts))
		for i, p := range b.Parts {
			kinds[i] = string(p.Kind)
		}
		with := document.Faint("all")
		if len(b.SharedWith) > 0 {
			with = strings.Join(b.SharedWith, ", ")
		}
		rows = append(rows, []string{b.Name, strings.Join(kinds, ", "), with, b.ChangedBy, b.ChangedAt.In(zone()).Format("Mon 2 Jan 15:04"), document.Faint(b.ID)})
		records = append(records, []string{b.ID, b.Name, strconv.Itoa(len(b.Parts)), strconv.Itoa(b.Revision), strings.Join(b.SharedWith, " "), b.ChangedBy, b.ChangedAt.UTC().Format(time.RFC3339)})
	}
	return document.Of(document.Table{Columns: []document.Column{{Name: "board"}, {Name: "parts"}, {Name: "shared with"}, {Name: "changed by"}, {Name: "at"}, {Name: ""}}, Rows: rows},
		document.RecordsOf([]string{"board_id", "board", "parts", "revision", "shared_with", "changed_by", "changed_at"}, records))
}
