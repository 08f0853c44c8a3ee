package acceptance

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"woodlark.example/core/dscp"
)

// marks notes where frames of a load arrived marked otherwise than they were sent: a circuit that
// is to keep their class does not.
func (w *walk) marks(t Trial, o Outcome) {
	if w.carry != nil || w.noted == nil {
		return
	}
	for i, l := range t.Loads {
		s := o.Seen[i]
		sent, name := w.sent(l)
		if s.Received == 0 || name == "" {
			continue
		}
		other, marked := int64(0), int64(0)
		var as []string
		for _, m := range slices.Sorted(maps.Keys(s.Marks)) {
			marked += s.Marks[m]
			if m != sent {
				other += s.Marks[m]
				as = append(as, nameOfMark(name, m))
			}
		}
		whose := "frames " + wayOf(l.There)
		if l.Service >= 0 {
			whose = fmt.Sprintf("frames of %s, %s", w.p.By.List[l.Service].Name, wayOf(l.There))
		}
		switch {
		case other > 0:
			w.note(fmt.Sprintf("%s: sent with %s, and arrived with %s", whose, nameOfMark(name, sent), strings.Join(as, ", ")))
		case marked == 0 && w.p.Over == Frame:
			w.note(fmt.Sprintf("%s: sent with a tag of a VLAN, and arrived without", whose))
		}
	}
}

// note notes something once.
func (w *walk) note(text string) {
	if !w.noted[text] {
		w.noted[text] = true
		w.r.Notes = append(w.r.Notes, text)
	}
}

// sent is how a load is marked, and what that is called; empty where nothing is.
func (w *walk) sent(l Load) (mark int, name string) {
	if w.p.Over == Frame {
		tags := w.p.TagsOf(l)
		if len(tags) == 0 {
			return 0, ""
		}
		return tags[0].Priority, "priority"
	}
	return int(w.p.Mark(l)), "DSCP"
}

func nameOfMark(name string, m int) string {
	if name == "DSCP" {
		return "DSCP " + dscp.Point(m).String()
	}
	return fmt.Sprintf("%s %d", name, m)
}
