package process

import (
	"context"
	"net/http/httptest"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/contract"
)

// A replica in a bucket, of a server on this machine that speaks S3: the machine is lost, and the shop comes back from there.
func TestAReplicaInABucket(t *testing.T) {
	bucket := s3mem.New()
	require.NoError(t, bucket.CreateBucket("saltmarsh"))
	server := httptest.NewServer(gofakes3.New(bucket).Server())
	defer server.Close()
	t.Setenv("AWS_ACCESS_KEY_ID", "made-up")
	t.Setenv("AWS_SECRET_ACCESS_KEY", "made-up, too")
	t.Setenv("AWS_CA_BUNDLE", "") // the library takes none beside its own client
	place := "s3://saltmarsh/shop?region=here&forcePathStyle=true&endpoint=" + server.URL

	d := start(t, t.TempDir(), "--replica", place)
	d.settled()
	ctx, end := context.WithTimeout(t.Context(), 2*time.Second)
	defer end()
	read := d.readOn(ctx, "7M511")
	require.NotEmpty(t, read)
	last := read[len(read)-1].reading
	time.Sleep(3 * time.Second) // what is younger than its lag may be lost, and that is measured elsewhere
	d.kill()

	back := t.TempDir()
	out, err := exec.Command(program, "restore", place, "--data", back).CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "each follows from the one before")
	d = start(t, back)
	all := ask[[]contract.ReadingSummary](d, "reading", "list", "7M511")
	require.NotEmpty(t, all)
	assert.GreaterOrEqual(t, max(all[0].Seq, all[len(all)-1].Seq), last)
	d.kill()

	out, err = exec.Command(program, "restore", strings.Replace(place, "/shop?", "/elsewhere?", 1), "--data", t.TempDir()).CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "there is no replica of shop.db in s3://saltmarsh/elsewhere")
}
