package process

import (
	"bytes"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	command "github.com/urfave/cli/v3"

	"hylostat.example/internal/cli"
)

// example is a command that README or docs show, with what stands below it.
type example struct {
	file    string
	line    int
	block   int // those that stand together
	command string
	says    []string
}

// examplesOf reads the sessions of a document: indented lines, "$ " before what is typed.
func examplesOf(t *testing.T, file string) (all []example) {
	t.Helper()
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	open, block := false, 0
	for n, line := range strings.Split(string(text), "\n") {
		line, indented := strings.CutPrefix(line, "    ")
		typed, is := strings.CutPrefix(line, "$ ")
		switch {
		case indented && is:
			typed, _, _ = strings.Cut(typed, "   #") // a remark
			all = append(all, example{file, n + 1, block, strings.TrimSpace(typed), nil})
			open = true
		case open && indented:
			all[len(all)-1].says = append(all[len(all)-1].says, line)
		case line != "":
			open = false
			block++
		}
	}
	return all
}

func documents(t *testing.T) []string {
	t.Helper()
	all := []string{"../../README.md"}
	for _, at := range []string{"../../docs/*.md", "../../docs/how-to/*.md", "../../docs/reference/*.md"} {
		found, err := filepath.Glob(at)
		require.NoError(t, err)
		all = append(all, found...)
	}
	return all
}

// What differs from one run of an example to the next, and stands for itself; names are those of groups.
var differs = regexp.MustCompile(strings.Join([]string{
	`(?P<date>\d{1,2} [A-Z][a-z]{2} \d{4}(, \d\d:\d\d)?)`, `(?P<head>\b\d+:[0-9a-f]{16}\b)`, `(?P<hash>\b[0-9a-f]{64}\b)`,
	`(?P<key>\b[a-z2-7]{4}(-[a-z2-7]{4}){4}\b)`, `(?P<recipient>\bage1[a-z0-9]+)`, `(?P<files>\bholds \d+ files, [\d.]+ .B)`,
	`(?P<time>\d{4}-\d\d-\d\d \d\d:\d\d:\d\d)`, `(?P<lives>\b\d[\d ]* readings over \d+ drives)`, `(?P<id>\b[a-z0-9]{10}\b(?:  ))`,
	`(?P<row>\brow \d+|\b\d+ rows)`, `(?P<heat>\d+ °C, \d+ at)`, `(?P<took>\b[\d.]+ (s|min)\b( \d+ min\b)?)`, `(?P<token>\bhyt_\S+)`,
}, "|"))

var blanks = regexp.MustCompile(` {2,}`)

// alike brings a line to what it is whenever it is printed, and gives what it left out.
func alike(line string) (plain string, left []string) {
	plain = differs.ReplaceAllStringFunc(line, func(s string) string {
		left = append(left, strings.TrimSpace(s))
		m := differs.FindStringSubmatch(s)
		for n, name := range differs.SubexpNames() {
			if name != "" && m[n] != "" {
				return "<" + name + ">"
			}
		}
		return s
	})
	return strings.TrimSpace(blanks.ReplaceAllString(plain, "  ")), left
}

// Every example of README and docs, run in the order of its document on a demo of its own, prints what stands below it; "..." is left out.
// One with a word in capitals to be replaced, or with media that only its reader has, is not run, nor is what stands below it in the same
// block: the test after this looks at its command and flags.
func TestExamplesPrintWhatStandsThere(t *testing.T) {
	elsewhere := regexp.MustCompile(`/mnt/(stick|replica)\b| [A-Z]{2,}( |$)`)
	for _, file := range documents(t) {
		left := -1
		all := slices.DeleteFunc(examplesOf(t, file), func(e example) bool {
			if elsewhere.MatchString(e.command) {
				left = e.block
			}
			return e.block == left
		})
		if len(all) == 0 {
			continue
		}
		t.Run(filepath.Base(file), func(t *testing.T) {
			t.Parallel()
			records := t.TempDir()
			factor := "60"
			for _, e := range all {
				if strings.Contains(e.command, "--follow") {
					factor = "600" // nobody waits for a sweep
				}
				if strings.Contains(e.command, "examine") {
					factor = "1" // the records are of now
				}
			}
			d := start(t, records, "--factor", factor)
			d.settled()
			dir, token := t.TempDir(), ""
			// What stood there, and what stands in its place here: media, folders, and what commands printed for later ones.
			known := map[string]string{
				"/mnt/usb": dir, "/media/maud": dir, "--data /var/lib/hylostat": "--data " + filepath.Join(dir, "restored"),
			}
			for _, e := range all {
				typed := "a password of theirs\na password of theirs\n"
				for n, says := range e.says {
					if before, answer, ok := strings.Cut(says, "six characters or more: "); ok {
						typed, e.says[n] = answer+"\n", before+"six characters or more:"
					}
				}
				line := e.command
				for was, is := range known {
					line = strings.ReplaceAll(line, was, is)
				}
				if regexp.MustCompile(`^hylostat (backup|shop) `).MatchString(line) && !strings.HasPrefix(line, "hylostat backup key") {
					line += " --data " + records
				}
				cmd := exec.Command("sh", "-c", line)
				cmd.Dir, cmd.Stdin = dir, strings.NewReader(typed)
				cmd.Env = append(os.Environ(), "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"), "HYLOSTAT_SERVICE="+d.address,
					"HYLOSTAT_BY=Dov", "HYLOSTAT_TOKEN="+token, "HOME="+dir)
				var out bytes.Buffer
				cmd.Stdout, cmd.Stderr = &out, &out
				_ = cmd.Run()
				if code := cmd.ProcessState.ExitCode(); code != 0 && code != 6 {
					t.Errorf("%s:%d: %s ended with %d: %s", e.file, e.line, line, code, &out)
				}
				if m := regexp.MustCompile(`(?m)^token +(\S+)`).FindStringSubmatch(out.String()); m != nil {
					token = m[1]
				}
				stands(t, e, out.String(), known)
			}
		})
	}
}

// passing is a line that is told while something goes on; whether it is seen is a matter of time.
var passing = regexp.MustCompile(`^([A-Z][a-z ]+|run \d+  .*): (reading|short|extended|spot|whole|mending|waits)\b.*$`)

// stands holds what an example printed to what stands below it; the first line that differs is told.
func stands(t *testing.T, e example, out string, known map[string]string) {
	t.Helper()
	told := func(lines []string) []string {
		return slices.DeleteFunc(lines, func(l string) bool { return strings.TrimSpace(l) == "" || passing.MatchString(l) })
	}
	now := told(strings.Split(strings.NewReplacer("\u00a0", " ", "or more: ", "or more:\n").Replace(out), "\n"))
	skip := len(e.says) == 0
	for _, says := range told(e.says) {
		if strings.TrimSpace(says) == "..." {
			skip = true
			continue
		}
		for was, is := range known { // a path is another one here
			if strings.HasPrefix(was, "/") {
				says = strings.ReplaceAll(says, was, is)
			}
		}
		want, was := alike(says)
		at := slices.IndexFunc(now, func(l string) bool { is, _ := alike(l); return is == want })
		if at < 0 || at > 0 && !skip {
			t.Errorf(
				"%s:%d: %s\n  stands there: %s\n  it printed:   %s", e.file, e.line, e.command, says,
				strings.Join(now, "\n                "),
			)
			return
		}
		_, left := alike(now[at])
		for n := range left {
			if len(was[n]) > 12 { // a head, a key
				known[was[n]] = left[n]
			}
		}
		now, skip = now[at+1:], false
	}
	if !skip && len(now) > 0 {
		t.Errorf("%s:%d: %s\n  it printed more: %s", e.file, e.line, e.command, strings.Join(now, "\n"))
	}
}

// Every command that README, docs and help name has its place in the tree, and so has every flag beside it.
func TestCommandsInTheDocsExist(t *testing.T) {
	root := cli.New(cli.Starters{})
	named := map[string]string{}
	span := regexp.MustCompile("`(?:sudo )?(?:build/)?hylostat ([^`]+)`|(?m)^ {4}[$#]? ?(?:sudo )?(?:build/)?hylostat ([a-z].*)$")
	for _, file := range documents(t) {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, m := range span.FindAllStringSubmatch(string(text), -1) {
			named[m[1]+m[2]] = file
		}
	}
	for _, line := range examples(root) {
		named[strings.TrimPrefix(line, "hylostat ")] = "a help text"
	}
	for _, line := range slices.Sorted(maps.Keys(named)) {
		words := split(strings.Split(strings.Split(line, "   ")[0], " > ")[0])
		if words[0] == "completion" || words[0] == "attend-drive" || strings.HasPrefix(words[0], "-") {
			continue
		}
		c := root
		for len(words) > 0 {
			sub := c.Command(words[0])
			if sub == nil {
				break
			}
			c, words = sub, words[1:]
		}
		if !assert.NotSame(t, root, c, "%s names hylostat %s", named[line], line) {
			continue
		}
		if len(c.VisibleCommands()) > 0 && c.ArgsUsage == "" && len(words) > 0 && !strings.HasPrefix(words[0], "-") {
			assert.Fail(t, "no such command", "%s names hylostat %s", named[line], line)
		}
		for _, w := range words {
			flag, is := strings.CutPrefix(w, "-")
			if !is || flag == "" {
				continue
			}
			flag, _, _ = strings.Cut(strings.TrimPrefix(flag, "-"), "=")
			assert.True(t, flag == "help" || slices.ContainsFunc(append(slices.Clone(c.Flags), root.Flags...), func(f command.Flag) bool {
				return slices.Contains(f.Names(), flag)
			}), "%s names hylostat %s: no flag %s", named[line], line, w)
		}
	}
	assert.Greater(t, len(named), 100)
}
