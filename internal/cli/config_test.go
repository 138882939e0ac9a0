package cli

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What the settings of file and environment come to, beside a flag, or what is wrong with them.
func TestSettings(t *testing.T) {
	for what, row := range map[string]struct {
		file string
		env  [2]string
		args string
		want ServeOptions
		says string
	}{
		"nothing": {want: ServeOptions{Listen: DefaultAddress, Shop: "Hylostat"}},
		"the file": {
			file: "serve:\n  listen: 127.0.0.1:1\n  host: [a, b]\n  backup-every: 90m\n",
			want: ServeOptions{Listen: "127.0.0.1:1", Shop: "Hylostat", Hosts: []string{"a", "b"}},
		},
		"the environment before it": {
			file: "serve:\n  listen: 127.0.0.1:1\n", env: [2]string{"HYLOSTAT_LISTEN", "127.0.0.1:2"},
			want: ServeOptions{Listen: "127.0.0.1:2", Shop: "Hylostat"},
		},
		"a flag before both": {
			file: "serve:\n  listen: 127.0.0.1:1\n", env: [2]string{"HYLOSTAT_LISTEN", "127.0.0.1:2"}, args: "--listen 127.0.0.1:3",
			want: ServeOptions{Listen: "127.0.0.1:3", Shop: "Hylostat"},
		},
		"a section of the bench": {file: "bench:\n  anything: x\nserve:\n", want: ServeOptions{Listen: DefaultAddress, Shop: "Hylostat"}},
		"one of both":            {file: "log-level: loud\n", says: `--log-level is debug, info, warn or error, not "loud"`},
		"a name that is none":    {file: "serve:\n  lisen: x\n", says: `line 2: "lisen" is no setting of serve. Did you mean listen?`},
		"a section that is none": {
			file: "server:\n  listen: x\n", says: `line 1: "server" is neither serve nor bench, nor a setting of both. Did you mean serve?`,
		},
		"a yes that is none": {file: "serve:\n  allow-rework: yes\n", says: `line 2: allow-rework is true or false, not "yes"`},
		"a duration that is none": {
			file: "serve:\n  backup-every: daily\n", says: `line 2: backup-every is a duration, as 24h or 90m, not "daily"`,
		},
		"a list for a text": {file: "serve:\n  shop: [a]\n", says: "line 2: shop is a text"},
		"a list of lists":   {file: "serve:\n  host: [[a]]\n", says: "line 2: host is a list of texts"},
		"no pairs":          {file: "serve: x\n", says: `line 1: settings are lines of "name: value"`},
		"no YAML":           {file: "serve:\n\t- x", says: "line 2: found character that cannot start any token"},
		"a word of the environment": {
			env: [2]string{"HYLOSTAT_BACKUP_KEEP", "all"}, says: `HYLOSTAT_BACKUP_KEEP in the environment is a whole number, not "all"`,
		},
		"what means one start alone": {file: "serve:\n  rejoin: true\n", says: `line 2: "rejoin" is no setting of serve`},
	} {
		t.Run(what, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "hylostat.yaml")
			require.NoError(t, os.WriteFile(path, []byte(row.file), 0o600))
			if row.env[0] != "" {
				t.Setenv(row.env[0], row.env[1])
			}
			var got ServeOptions
			command := New(Starters{Serve: func(_ context.Context, o ServeOptions) error { got = o; return nil }})
			var out bytes.Buffer
			command.Writer, command.ErrWriter = &out, &out
			err := command.Run(t.Context(), append([]string{"hylostat", "serve", "--config", path}, strings.Fields(row.args)...))
			if row.says != "" {
				require.ErrorContains(t, err, row.says)
				assert.Equal(t, exitUsage, Code(err))
				return
			}
			require.NoError(t, err)
			assert.Equal(t, [3]any{row.want.Listen, row.want.Shop, len(row.want.Hosts)}, [3]any{got.Listen, got.Shop, len(got.Hosts)})
		})
	}
}

// Every setting that the file we ship lists is one, and says what is so without it.
func TestTheFileWeShipIsTrue(t *testing.T) {
	text, err := os.ReadFile("../../packaging/files/hylostat.yaml")
	require.NoError(t, err)
	var open strings.Builder // as if somebody had taken every sign away
	for line := range strings.Lines(string(text)) {
		name, _, ok := strings.Cut(strings.TrimLeft(line, " #"), ":")
		if ok && !strings.Contains(name, " ") && strings.Contains(line, "# ") {
			line = strings.Replace(line, "# ", "", 1)
		}
		open.WriteString(line)
	}
	path := filepath.Join(t.TempDir(), "hylostat.yaml")
	// One kind of TLS at a time, and no key that is none.
	sound := strings.NewReplacer("  tls: self", "  # tls: self", "[age1...]", "[]").Replace(open.String())
	require.NoError(t, os.WriteFile(path, []byte(sound), 0o600))
	var out bytes.Buffer
	command := New(Starters{})
	command.Writer = &out
	require.NoError(t, command.Run(t.Context(), []string{"hylostat", "config", "check", path}), sound)
	for _, one := range []string{"serve.listen", "serve.backup-to", "bench.bay-image", "bench.allow-rework", "serve.log-format"} {
		assert.Regexp(t, one+` .*hylostat.yaml, line`, out.String())
	}
}
