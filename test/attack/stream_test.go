package attack_test

import (
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/app"
	"hylostat.example/internal/client"
	"hylostat.example/internal/contract"
)

// Whoever was removed went on hearing everything that happened, for as long as their stream stood.
func TestAStreamEndsWithWhoItBelongsTo(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, app.CreateShop(t.Context(), dir, "Maud", "kelp and gravel, twice"))
	p := begin(t, dir)
	ask := func(method, path, body string, credentials map[string]string) *http.Response {
		q, err := http.NewRequestWithContext(t.Context(), method, p.address+"/api/v1"+path, strings.NewReader(body))
		require.NoError(t, err)
		q.Header.Set("Content-Type", "application/json")
		for name, v := range credentials {
			q.Header.Set(name, v)
		}
		r, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		return r
	}
	signIn := func(name, password string) map[string]string {
		body, err := json.Marshal(map[string]string{"name": name, "password": password})
		require.NoError(t, err)
		r := ask(http.MethodPost, "/session", string(body), nil)
		require.Equal(t, http.StatusOK, r.StatusCode)
		require.NoError(t, r.Body.Close())
		require.NotEmpty(t, r.Cookies())
		return map[string]string{"Cookie": r.Cookies()[0].Name + "=" + r.Cookies()[0].Value}
	}
	maud := signIn("Maud", "kelp and gravel, twice")
	r := ask(
		http.MethodPost, "/people", `{"name": "Imre", "role": "desk", "password": "seven wet sandbags", "token": true, "by": "Maud"}`,
		maud,
	)
	require.Equal(t, http.StatusOK, r.StatusCode)
	var imre contract.Worker
	require.NoError(t, json.NewDecoder(r.Body).Decode(&imre))
	require.NoError(t, r.Body.Close())
	token := map[string]string{"Authorization": "Bearer " + *imre.NewToken}
	session := signIn("Imre", "seven wet sandbags")
	listen := func(credentials map[string]string) <-chan struct{} {
		r := ask(http.MethodGet, "/events", "", credentials) //nolint:bodyclose // closed by whoever listens
		require.Equal(t, http.StatusOK, r.StatusCode)
		ended := make(chan struct{})
		go func() {
			defer close(ended)
			defer r.Body.Close()
			_, _ = io.Copy(io.Discard, r.Body)
		}()
		return ended
	}
	ends := func(stream <-chan struct{}) bool {
		select {
		case <-stream:
			return true
		case <-time.After(5 * time.Second):
			return false
		}
	}
	stays, first, second := listen(maud), listen(session), listen(token)
	require.NoError(t, ask(http.MethodDelete, "/session", "", session).Body.Close())
	assert.True(t, ends(first), "that of a session that was signed out")
	require.NoError(t, ask(http.MethodDelete, "/people/Imre?by=Maud", "", maud).Body.Close())
	assert.True(t, ends(second), "that of a token of somebody who was removed")
	select {
	case <-stays:
		assert.Fail(t, "the others' go on")
	default:
	}
	c, err := client.New(p.address, *imre.NewToken)
	require.NoError(t, err)
	_, err = c.Bays(t.Context())
	refused(t, err, http.StatusUnauthorized, "")
}
