package process

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What each shell offers behind a line that somebody has begun: commands, flags, values, drives, bays, runs.
func TestShellsComplete(t *testing.T) {
	d := start(t, t.TempDir())
	d.settled()
	dir := t.TempDir()
	for shell, offers := range map[string]string{
		"bash": `
			_get_comp_words_by_ref() { :; }
			source ` + dir + `/script.bash
			COMP_WORDS=($1); [[ $1 == *" " ]] && COMP_WORDS+=("")
			COMP_CWORD=$((${#COMP_WORDS[@]} - 1))
			$(complete -p hylostat | sed 's/.*-F \([^ ]*\) .*/\1/')
			printf '%s\n' "${COMPREPLY[@]}"`,
		"zsh": `
			compdef() { :; }
			_describe() { print -l -- "${opts[@]}"; }
			_files() { :; }
			source ` + dir + `/script.zsh
			words=(${(z)1}); [[ $1 == *" " ]] && words+=("")
			_hylostat`,
		"fish": `source ` + dir + `/script.fish; complete -C "$argv[1]"`,
	} {
		script, err := exec.Command(program, "completion", shell).Output()
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "script."+shell), script, 0o600))
		for line, want := range map[string]string{
			"hylostat ":                    "drive",
			"hylostat drive ":              "show",
			"hylostat drive show ":         "KVA077M4Q2",
			"hylostat check quick 7M4R9 ":  "field/3",
			"hylostat bay try ":            "bay-4",
			"hylostat drive list --gr":     "--grade",
			"hylostat drive list --grade ": "replace",
			"hylostat plan set ":           "extended",
			"hylostat drive duty 7M4R9 ":   "archive",
			"hylostat statement 7M --lang": "--language",
			"hylostat lot show ":           "1",
			"hylostat handover 7M --goes ": "scrapped",
			"hylostat serve --log-format ": "json",
		} {
			args := []string{"-c", offers, shell, line}
			if shell == "fish" {
				args = []string{"-c", offers, line}
			}
			cmd := exec.Command(shell, args...)
			cmd.Env = append(
				os.Environ(), "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"), "HYLOSTAT_SERVICE="+d.address, "HOME="+dir,
			)
			out, _ := cmd.CombinedOutput()
			found := false
			for offered := range strings.Lines(string(out)) {
				word, _, _ := strings.Cut(strings.TrimSpace(offered), ":")
				word, _, _ = strings.Cut(word, "\t")
				found = found || word == want
			}
			assert.True(t, found, "%s, %q offers %s: %s", shell, line, want, out)
		}
	}
}
