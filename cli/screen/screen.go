// Package screen shows what happens on a terminal or into a file: steps, progress, tables, findings and
// refusals, in lines that fit. Nothing that others wrote reaches it unless it is made printable.
package screen

import (
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/schollz/progressbar/v3"
	"golang.org/x/term"

	"wetland/core/advice"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/smoke"
	"wetland/core/visible"
)

// Screen writes for people. It is the Reporter that the core tells its steps to.
type Screen struct {
	out      io.Writer // for progress bars; all else goes through text
	text     io.Writer
	Silent   bool
	Terminal bool
	color    bool
	width    int

	mu   sync.Mutex
	bar  *progressbar.ProgressBar
	sign *signOfLife
	// Signs is where it is said that a step goes on, where no bar can be drawn; nil: nowhere.
	Signs io.Writer
}

// signOfLife tells of a long step without a terminal, a line at a time.
type signOfLife struct {
	step, unit  string
	total, done int64
	timer       *time.Timer
}

// A step that ends soon needs no sign of life; one that goes on for long gets more of them.
const (
	firstSign = time.Second
	nextSign  = 30 * time.Second
)

// words says how far the step is.
func (l *signOfLife) words() string {
	switch {
	case l.total > 0 && l.unit == "bytes":
		return fmt.Sprintf("%s of %s", humanize.Bytes(uint64(l.done)), humanize.Bytes(uint64(l.total)))
	case l.total > 0:
		return fmt.Sprintf("%d of %d %s", min(l.done, l.total), l.total, l.unit)
	}
	return "under way"
}

// plainWidth is the width, in columns, where no terminal tells its own.
const plainWidth = 80

// New shows on a writer; on a terminal in colours and with progress.
func New(out io.Writer, silent bool) *Screen {
	s := &Screen{out: out, Silent: silent, width: plainWidth}
	if file, ok := out.(*os.File); ok && term.IsTerminal(int(file.Fd())) {
		s.Terminal = true
		if width, _, err := term.GetSize(int(file.Fd())); err == nil && width > 40 {
			s.width = min(width, 110)
		}
	}
	s.color = s.Terminal && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
	s.text = Printable(out, s.color)
	return s
}

func (s *Screen) paint(color text.Colors, words string) string {
	if !s.color || words == "" {
		return words
	}
	text.EnableColors() // the decision is made here, for this writer
	return color.Sprint(words)
}

// Good colours what is well.
func (s *Screen) Good(words string) string { return s.paint(text.Colors{text.FgGreen}, words) }

// Bad colours what is broken.
func (s *Screen) Bad(words string) string { return s.paint(text.Colors{text.FgRed, text.Bold}, words) }

// Doubt colours what a person should look at.
func (s *Screen) Doubt(words string) string { return s.paint(text.Colors{text.FgYellow}, words) }

// Bold marks a name or an end.
func (s *Screen) Bold(words string) string { return s.paint(text.Colors{text.Bold}, words) }

// Faint colours what may be passed over.
func (s *Screen) Faint(words string) string { return s.paint(text.Colors{text.Faint}, words) }

// Print shows text as it is formatted, made printable.
func (s *Screen) Print(format string, args ...any) {
	s.Clear()
	if !s.Silent {
		fmt.Fprintf(s.text, format, args...)
	}
}

// Paragraph writes words after a head, wrapped at the screen's width. Lines that
// come broken stay so.
func (s *Screen) Paragraph(head, words string) {
	indent := ""
	if head != "" {
		words = head + " " + words
	}
	for i, line := range strings.Split(words, "\n") {
		if i > 0 && looksLikeStep.MatchString(line) {
			line = "| " + strings.TrimSpace(line) // a name with line ends in it must not tell of a step
		}
		s.Print("%s\n", s.Wrap(line, indent))
	}
}

// Wrap breaks a line between words; what follows the first line is indented.
func (s *Screen) Wrap(line, indent string) string {
	lead := line[:len(line)-len(strings.TrimLeft(line, " "))]
	lines := wrapWords(strings.TrimLeft(line, " "), max(20, s.width-len(lead)-len(indent)))
	return lead + strings.Join(lines, "\n"+lead+indent)
}

// StepWidth is the column in which the details of steps begin.
const StepWidth = 18

// Begin shows a bar while a long step is under way; without a terminal, signs of life.
func (s *Screen) Begin(step string, total int64, unit string) {
	s.Clear()
	if s.Silent || !s.Terminal {
		s.beginSigns(step, total, unit)
		return
	}
	if total == 0 {
		total = -1
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	options := []progressbar.Option{
		progressbar.OptionSetWriter(s.out), progressbar.OptionSetDescription("    " + step), progressbar.OptionSetWidth(24),
		progressbar.OptionClearOnFinish(), progressbar.OptionSpinnerType(9), progressbar.OptionSetSpinnerChangeInterval(0), progressbar.OptionSetElapsedTime(false),
		progressbar.OptionSetPredictTime(false), progressbar.OptionThrottle(60_000_000),
	}
	if unit == "bytes" {
		options = append(options, progressbar.OptionShowBytes(true))
	} else if total > 0 {
		options = append(options, progressbar.OptionShowCount())
	}
	s.bar = progressbar.NewOptions64(total, options...)
}

func (s *Screen) beginSigns(step string, total int64, unit string) {
	if s.Signs == nil {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	sign := &signOfLife{step: step, unit: unit, total: total}
	sign.timer = time.AfterFunc(firstSign, func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.sign == sign { // else it ended just now
			fmt.Fprintf(s.Signs, "  ..  %-*s%s\n", StepWidth, sign.step, sign.words())
			sign.timer.Reset(nextSign)
		}
	})
	s.sign = sign
}

// Advance moves the bar.
func (s *Screen) Advance(n int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.sign != nil {
		s.sign.done += n
	}
	if s.bar != nil {
		_ = s.bar.Add64(n) // a bar that cannot be drawn is no reason to stop
	}
}

// Clear takes the bar away, and ends the signs of life.
func (s *Screen) Clear() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.sign != nil {
		s.sign.timer.Stop()
		s.sign = nil
	}
	if s.bar != nil {
		_ = s.bar.Clear()
		s.bar = nil
	}
}

// wrapWords breaks a line between words into lines of at most width columns; a
// longer word stays whole, so that a path can be copied.
func wrapWords(line string, width int) []string {
	var lines []string
	current, used := "", 0
	for word := range strings.FieldsSeq(line) {
		size := text.StringWidthWithoutEscSequences(word)
		if used > 0 && used+1+size > width {
			lines = append(lines, current)
			current, used = "", 0
		}
		if used > 0 {
			current, used = current+" ", used+1
		}
		current, used = current+word, used+size
	}
	return append(lines, current)
}

// wrapCell breaks a table's cell between words.
func wrapCell(cell string, width int) string { return strings.Join(wrapWords(cell, width), "\n") }

// End writes how the step ended.
func (s *Screen) End(mark progress.Mark, step, detail string) {
	s.Clear()
	if s.Silent {
		return
	}
	sign := map[progress.Mark]string{
		progress.Good: s.Good("ok"), progress.Bad: s.Bad("NO"), progress.Doubt: s.Doubt("??"), progress.Note: "--",
	}[mark]
	s.Row("  "+sign+"  ", 6, fmt.Sprintf("%-*s", StepWidth, step), visible.Lines(detail))
}

// Row writes a lead, a name and wrapped words that stay in their column.
func (s *Screen) Row(lead string, leadWidth int, name, words string) {
	if name != "" && words != "" && !strings.HasSuffix(name, " ") {
		name += "  " // a name as wide as its column
	}
	name = strings.ReplaceAll(name, "\n", `\u000a`) // of a file, say
	column := leadWidth + text.StringWidthWithoutEscSequences(name)
	var lines []string
	for line := range strings.SplitSeq(words, "\n") {
		lines = append(lines, wrapWords(line, max(24, s.width-column))...)
	}
	whole := lead + name + strings.Join(lines, "\n"+strings.Repeat(" ", column))
	s.Print("%s\n", strings.TrimRight(whole, " "))
}

// Verdict is a verdict in its colour.
func (s *Screen) Verdict(v smoke.Verdict, padded string) string {
	switch v {
	case smoke.Sound:
		return s.Good(padded)
	case smoke.Doubtful:
		return s.Doubt(padded)
	}
	return s.Bad(padded)
}

// state is what is said of a page.
type state struct {
	verdict smoke.Verdict
	words   string // what was found on it
}

// groupPages puts pages together that have the same findings: a fault of the
// whole theme is then said once, not once for each page.
func groupPages(pages []smoke.PageVerdict, onlyFailing bool) []smoke.Shared[state] {
	var groups []smoke.Shared[state]
	for _, page := range pages {
		words := findingWords(page.Findings)
		switch {
		case words != "":
			groups = smoke.Share(groups, state{page.Verdict, words}, page.Path)
		case page.Verdict != smoke.Sound || !onlyFailing:
			groups = append(groups, smoke.Shared[state]{What: state{verdict: page.Verdict}, Pages: []string{page.Path}})
		}
	}
	return groups
}

func findingWords(findings []smoke.Finding) string {
	var lines []string
	for _, finding := range findings {
		lines = append(lines, finding.String())
	}
	return strings.Join(lines, "\n")
}

// Columns of the table of pages.
const (
	pathColumn    = 24 // a longer path stands on a line of its own
	verdictColumn = 10
)

// NotCompared names what changes by itself on pages.
func (s *Screen) NotCompared(moving []smoke.Finding) {
	if len(moving) == 0 {
		return
	}
	s.Print("\n%s\n", s.Faint("Not compared, for it changes by itself"))
	var subjects []smoke.Shared[string]
	for _, finding := range moving {
		subjects = smoke.Share(subjects, finding.Subject(), finding.Page)
	}
	for _, subject := range subjects {
		where := subject.Pages[0]
		if n := len(subject.Pages); n > 1 {
			where = fmt.Sprintf("%d pages", n)
		}
		s.Row("    ", 4, fmt.Sprintf("%-*s  ", 20, where), subject.What)
	}
}

// Pages writes a table of pages with what was found on each.
func (s *Screen) Pages(pages []smoke.PageVerdict, onlyFailing bool) {
	groups := groupPages(pages, onlyFailing)
	widest := 6
	for _, group := range groups {
		for _, path := range group.Pages {
			if width := text.StringWidthWithoutEscSequences(path); width <= pathColumn {
				widest = max(widest, width)
			}
		}
	}
	for _, group := range groups {
		s.pageGroup(group, widest)
	}
}

// pageGroup writes paths in the left column and words in the right one, side by side.
func (s *Screen) pageGroup(group smoke.Shared[state], widest int) {
	var words []string
	if group.What.words != "" {
		for line := range strings.SplitSeq(group.What.words, "\n") {
			words = append(words, wrapWords(line, max(24, s.width-widest-verdictColumn-6))...)
		}
	}
	verdict := s.Verdict(group.What.verdict, fmt.Sprintf("%-*s", verdictColumn, group.What.verdict))
	for row := 0; row < max(len(group.Pages), len(words), 1); row++ {
		path, line := "", ""
		if row < len(group.Pages) {
			path = group.Pages[row]
		}
		if row < len(words) {
			line = words[row]
		}
		if text.StringWidthWithoutEscSequences(path) > widest {
			s.Print("    %s\n", path)
			path = ""
		}
		pad := strings.Repeat(" ", widest-text.StringWidthWithoutEscSequences(path)+2)
		s.Print("%s\n", strings.TrimRight("    "+path+pad+verdict+line, " "))
		verdict = strings.Repeat(" ", verdictColumn)
	}
}

// Refusal writes every reason and what to do about it.
func (s *Screen) Refusal(r *runs.Refusal) {
	s.Print("\n")
	words := "Nothing on the site was touched."
	if r.Unlooked {
		words = "Nothing on the site was touched; the pages were not looked at."
	}
	s.Paragraph(s.Bad("Refused."), words)
	for _, reason := range r.Reasons {
		s.Print("\n")
		s.Row("  - ", 4, "", reason.What)
		for _, step := range reason.Do {
			s.Row("    ", 4, "", s.Bold("Do: ")+Doing(step))
		}
	}
}

// Next writes what to do now.
func (s *Screen) Next(steps ...advice.Step) {
	if len(steps) == 0 {
		return
	}
	s.Print("\n%s\n", s.Bold("What now"))
	for _, step := range steps {
		switch {
		case step.Command != nil && step.Say == "":
			s.Row("  ", 2, fmt.Sprintf("%-32s  ", CommandLine(step.Command)), step.Does)
		case step.Shell != "": // to be copied as it is
			s.Print("  %s\n", step.Shell)
		default:
			s.Print("%s\n", s.Wrap("  "+Doing(step), ""))
		}
	}
}

// Doing says in a sentence what to do.
func Doing(step advice.Step) string {
	words := step.Say
	if step.Command != nil {
		words = strings.TrimSpace(words + " " + CommandLine(step.Command))
	}
	if step.Does != "" {
		words += " (" + step.Does + ")"
	}
	return words + step.Shell
}

// Table begins a table without lines; its last column is wrapped.
func (s *Screen) Table(heads ...any) table.Writer {
	rows := table.NewWriter()
	if s.Silent {
		rows.SetOutputMirror(io.Discard)
	} else {
		rows.SetOutputMirror(s.text)
	}
	rows.SetStyle(table.StyleDefault)
	rows.SuppressTrailingSpaces()
	style := rows.Style()
	style.Options = table.OptionsNoBordersAndSeparators
	style.Box.PaddingLeft, style.Box.PaddingRight = "  ", ""
	style.Format.Header = 0
	rows.AppendHeader(heads)
	rows.SetColumnConfigs([]table.ColumnConfig{{Number: len(heads), WidthMax: max(24, s.width-46), WidthMaxEnforcer: wrapCell}})
	return rows
}
