package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"woodlark.example/internal/kind"
	"woodlark.example/internal/thirdparty"
)

// described is a command with its options: a command registers them before it parses, and stops
// there when it is asked for help.
func described(cmd command) *call {
	c := newCall(cmd, context.Background(), []string{"-help"}, strings.NewReader(""), io.Discard, io.Discard)
	_ = c.run(c)
	return c
}

// options are those that help shows, by name.
func (c *call) options() (list []*flag.Flag) {
	c.flags.VisitAll(func(f *flag.Flag) {
		if !strings.HasPrefix(f.Usage, kind.OldSpelling) {
			list = append(list, f)
		}
	})
	return list
}

// says is what help says of an option.
func says(f *flag.Flag) string {
	text := f.Usage
	if f.DefValue != "" && f.DefValue != "false" && f.DefValue != "0" && f.DefValue != "0s" && !strings.Contains(text, "(default") {
		text += fmt.Sprintf(" (default %s)", f.DefValue)
	}
	return text
}

// verbs are what may follow a command's name, by its usage: the first words of it that are no
// option and stand for nothing else.
func (c command) verbs() (list []string) {
	for line := range strings.Lines(c.usage) {
		word, _, _ := strings.Cut(strings.TrimSpace(line), " ")
		word = strings.Trim(word, "[]")
		plain := word != "" && word != "options" && !strings.ContainsFunc(word, func(r rune) bool { return (r < 'a' || r > 'z') && r != '-' }) && word[0] != '-'
		if plain && !slices.Contains(list, word) {
			list = append(list, word)
		}
	}
	return list
}

// everyCommand are all commands, with those of the lab by their two words.
func everyCommand() []command {
	return append(allCommands(), labCommands()...)
}

// ofThemselves are the commands that tell of all commands, and so cannot be named where those are
// listed.
var ofThemselves []command

func init() { ofThemselves = []command{completionCommand, manualCommand, noticesCommand} }

var noticesCommand = command{
	name: "notices", summary: "the licences of what this program and its console are built with",
	example: "woodlark notices | less",
	run: func(c *call) error {
		if err := c.parse(); err != nil {
			return err
		}
		if len(c.args) > 0 {
			return wrongCall("notices has no use for %q", short(c.args[0]))
		}
		_, err := io.WriteString(c.out, thirdparty.Notices)
		return err
	},
}

// allCommands are those that may stand behind the program's name.
func allCommands() []command { return append(commands(), ofThemselves...) }

var completionCommand = command{
	name: "completion", summary: "what a shell completes woodlark's commands and options by",
	usage:   "bash\nzsh\nfish",
	example: "source <(woodlark completion bash)\nwoodlark completion zsh > ~/.zfunc/_woodlark\nwoodlark completion fish > ~/.config/fish/completions/woodlark.fish",
	run: func(c *call) error {
		if err := c.parse(); err != nil {
			return err
		}
		shells := map[string]func(io.Writer) error{"bash": completeBash, "zsh": completeZsh, "fish": completeFish}
		if len(c.args) != 1 || shells[c.args[0]] == nil {
			return wrongCall("say for which shell: completion bash, zsh or fish")
		}
		return shells[c.args[0]](c.out)
	},
}

// words are what is completed behind a command: its verbs, and its options.
func words(c command) (verbs, options []string) {
	d := described(c)
	for _, f := range d.options() {
		options = append(options, "-"+f.Name)
	}
	if c.name == labCommand.name {
		for _, sub := range labCommands() {
			verbs = append(verbs, strings.TrimPrefix(sub.name, "lab "))
		}
		return verbs, options
	}
	return c.verbs(), options
}

func names() (list []string) {
	for _, c := range everyCommand() {
		if !strings.Contains(c.name, " ") {
			list = append(list, c.name)
		}
	}
	return append(list, "help", "version")
}

// completeBash writes a function that knows by the words before which are left.
func completeBash(w io.Writer) error {
	var b strings.Builder
	b.WriteString("# Completion of woodlark for bash: source this, or put it where bash-completion looks.\n_woodlark() {\n  local word=\"${COMP_WORDS[COMP_CWORD]}\" of=\"${COMP_WORDS[1]}\" choices=\n")
	b.WriteString("  if [ \"$of\" = lab ] && [ \"$COMP_CWORD\" -gt 2 ]; then of=\"lab ${COMP_WORDS[2]}\"; fi\n")
	fmt.Fprintf(&b, "  if [ \"$COMP_CWORD\" -eq 1 ]; then\n    choices=\"%s\"\n  else\n    case \"$of\" in\n", strings.Join(names(), " "))
	for _, c := range everyCommand() {
		verbs, options := words(c)
		fmt.Fprintf(&b, "      \"%s\") choices=\"%s\" ;;\n", c.name, strings.Join(append(verbs, options...), " "))
	}
	fmt.Fprintf(&b, "      help) choices=\"%s\" ;;\n    esac\n  fi\n", strings.Join(names(), " "))
	b.WriteString("  # An option only where one is begun; names of files else.\n  case \"$word\" in\n    -*) ;;\n    *) if [ \"$COMP_CWORD\" -gt 1 ]; then local kept= x; for x in $choices; do case \"$x\" in -*) ;; *) kept=\"$kept $x\" ;; esac; done; choices=$kept; fi ;;\n  esac\n")
	b.WriteString("  COMPREPLY=($(compgen -W \"$choices\" -- \"$word\"))\n  if [ ${#COMPREPLY[@]} -eq 0 ]; then COMPREPLY=($(compgen -f -- \"$word\")); fi\n}\ncomplete -o filenames -F _woodlark woodlark\n")
	_, err := io.WriteString(w, b.String())
	return err
}

// quoted is a text within single quotes of a shell.
func quoted(text string) string {
	return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'"
}

func completeZsh(w io.Writer) error {
	var b strings.Builder
	b.WriteString("#compdef woodlark\n# Completion of woodlark for zsh: put it as _woodlark where $fpath looks.\n_woodlark() {\n  local -a commands\n  commands=(\n")
	escape := strings.NewReplacer(":", `\:`, "[", `\[`, "]", `\]`)
	for _, c := range everyCommand() {
		if !strings.Contains(c.name, " ") {
			fmt.Fprintf(&b, "    %s\n", quoted(c.name+":"+escape.Replace(c.summary)))
		}
	}
	b.WriteString("  )\n  if (( CURRENT == 2 )); then _describe command commands; return; fi\n  local of=$words[2]\n  if [[ $of == lab ]] && (( CURRENT > 3 )); then of=\"lab $words[3]\"; fi\n  case \"$of\" in\n")
	for _, c := range everyCommand() {
		fmt.Fprintf(&b, "    %s) _arguments -S", quoted(c.name))
		for _, f := range described(c).options() {
			value := ":value:_files"
			if isSwitch(f) {
				value = ""
			}
			fmt.Fprintf(&b, " \\\n      %s", quoted("*-"+f.Name+"["+escape.Replace(f.Usage)+"]"+value))
		}
		if verbs, _ := words(c); len(verbs) > 0 {
			fmt.Fprintf(&b, " \\\n      %s", quoted("*: :("+strings.Join(verbs, " ")+")"))
		} else {
			b.WriteString(" \\\n      '*: :_files'")
		}
		b.WriteString(" ;;\n")
	}
	b.WriteString("  esac\n}\n_woodlark \"$@\"\n")
	_, err := io.WriteString(w, b.String())
	return err
}

// isSwitch reports whether an option takes no value.
func isSwitch(f *flag.Flag) bool {
	b, is := f.Value.(interface{ IsBoolFlag() bool })
	return is && b.IsBoolFlag()
}

func completeFish(w io.Writer) error {
	var b strings.Builder
	b.WriteString("# Completion of woodlark for fish: put it as woodlark.fish into the folder of completions.\n")
	for _, c := range everyCommand() {
		if strings.Contains(c.name, " ") {
			continue
		}
		fmt.Fprintf(&b, "complete -c woodlark -n __fish_use_subcommand -f -a %s -d %s\n", c.name, quoted(c.summary))
	}
	for _, c := range everyCommand() {
		first, second, two := strings.Cut(c.name, " ")
		when := "__fish_seen_subcommand_from " + first
		if two {
			when += "; and __fish_seen_subcommand_from " + second
		}
		verbs, _ := words(c)
		for _, v := range verbs {
			fmt.Fprintf(&b, "complete -c woodlark -n %s -a %s\n", quoted(when), v)
		}
		for _, f := range described(c).options() {
			value := " -r"
			if isSwitch(f) {
				value = ""
			}
			fmt.Fprintf(&b, "complete -c woodlark -n %s -o %s%s -d %s\n", quoted(when), f.Name, value, quoted(f.Usage))
		}
	}
	_, err := io.WriteString(w, b.String())
	return err
}

var manualCommand = command{
	name: "manual", summary: "manual pages of all commands, for man",
	usage:   "-to FOLDER",
	example: "woodlark manual -to /usr/local/share/man/man1",
	run: func(c *call) error {
		var to string
		c.flags.StringVar(&to, "to", "", "folder for the pages; it is made when it is not there")
		if err := c.parse(); err != nil {
			return err
		}
		switch {
		case len(c.args) > 0:
			return wrongCall("manual has no use for %q", short(c.args[0]))
		case to == "":
			return wrongCall("say where to: -to FOLDER")
		}
		if err := os.MkdirAll(to, 0o755); err != nil {
			return err
		}
		for name, page := range manual() {
			if err := os.WriteFile(filepath.Join(to, name), []byte(page), 0o644); err != nil {
				return err
			}
		}
		return nil
	},
}

// manual are the pages, by the names of their files.
func manual() map[string]string {
	pages := map[string]string{}
	var all []string
	for _, c := range everyCommand() {
		page := "woodlark-" + strings.ReplaceAll(c.name, " ", "-")
		pages[page+".1"] = manualOf(page, described(c))
		all = append(all, page)
	}
	var b strings.Builder
	b.WriteString(head("woodlark"))
	b.WriteString(".SH NAME\nwoodlark \\- measure the paths between hosts, and tell which got worse\n.SH SYNOPSIS\n.B woodlark\n.I COMMAND\n.RI [ options ]\n.SH DESCRIPTION\n")
	b.WriteString(roff("Woodlark measures reachability, latency, jitter, loss and throughput between hosts, learns what is normal for each path, and says which got worse: since when, by how much, and why."))
	b.WriteString(".SH COMMANDS\n")
	for _, c := range everyCommand() {
		fmt.Fprintf(&b, ".TP\n.B woodlark %s\n%s", roffWord(c.name), roff(c.summary))
	}
	b.WriteString(".SH EXIT STATUS\n.TP\n.B 0\nMeasured and good.\n.TP\n.B 1\nMeasured and not good.\n.TP\n.B 2\nThe call was wrong.\n.TP\n.B 3\nIt could not be measured.\n")
	b.WriteString(".SH ENVIRONMENT\n.TP\n.B WOODLARK_SERVICE\nAddress of the service that is asked.\n.TP\n.B WOODLARK_TOKEN\nToken that it is asked with.\n.SH SEE ALSO\n")
	for i, page := range all {
		comma := ","
		if i == len(all)-1 {
			comma = ""
		}
		fmt.Fprintf(&b, ".BR %s (1)%s\n", roffWord(page), comma)
	}
	pages["woodlark.1"] = b.String()
	return pages
}

func head(page string) string {
	return fmt.Sprintf(".TH %s 1 \"\" \"woodlark %s\" \"Woodlark\"\n", strings.ToUpper(page), Version)
}

func manualOf(page string, c *call) string {
	var b strings.Builder
	b.WriteString(head(page))
	fmt.Fprintf(&b, ".SH NAME\n%s \\- %s.SH SYNOPSIS\n", roffWord(page), roff(c.summary))
	for i, u := range strings.Split(c.usage, "\n") {
		if i > 0 {
			b.WriteString(".br\n")
		}
		fmt.Fprintf(&b, ".B woodlark %s\n%s", roffWord(c.name), roff(u))
	}
	if c.more != "" {
		fmt.Fprintf(&b, ".SH DESCRIPTION\n.nf\n%s.fi\n", roff(c.more))
	}
	if list := c.options(); len(list) > 0 {
		b.WriteString(".SH OPTIONS\n")
		for _, f := range list {
			fmt.Fprintf(&b, ".TP\n.B \\-%s\n%s", roffWord(f.Name), roff(says(f)))
		}
	}
	fmt.Fprintf(&b, ".SH EXAMPLES\n.nf\n%s.fi\n.SH SEE ALSO\n.BR woodlark (1)\n", roff(c.example))
	return b.String()
}

// roff is a text as roff shows it unchanged, with an end of line.
func roff(text string) string {
	var b strings.Builder
	for line := range strings.Lines(strings.TrimRight(text, "\n") + "\n") {
		line = roffWord(strings.TrimRight(line, "\n"))
		if strings.HasPrefix(line, ".") || strings.HasPrefix(line, "'") {
			line = `\&` + line
		}
		b.WriteString(line + "\n")
	}
	return b.String()
}

func roffWord(text string) string {
	return strings.NewReplacer(`\`, `\e`, "-", `\-`).Replace(text)
}
