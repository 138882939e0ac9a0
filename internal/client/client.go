// Package client is the Go client of the service: the generated calls, wrapped so that an answer is a value and everything
// else an error that says what to do. Start with New.
package client

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"

	"hylostat.example/internal/contract"
)

// Client talks to one service.
type Client struct {
	raw     *Raw
	address string
}

// New makes a client for a service's address, such as "http://127.0.0.1:8347". A token says who asks; an open shop needs none.
func New(address, token string) (*Client, error) { return NewTrusting(address, token, nil) }

// NewTrusting is New for a service that speaks TLS by certificates of these authorities; nil: of those the machine trusts.
func NewTrusting(address, token string, authorities *x509.CertPool) (*Client, error) {
	address = strings.TrimSuffix(address, "/")
	web := &http.Client{}
	if authorities != nil {
		t := http.DefaultTransport.(*http.Transport).Clone() //nolint:errcheck // it is one
		t.TLSClientConfig = &tls.Config{RootCAs: authorities, MinVersion: tls.VersionTLS12}
		web.Transport = t
	}
	raw, err := NewClient(address+"/api/v1", WithHTTPClient(web), WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		if token != "" {
			r.Header.Set("Authorization", "Bearer "+token)
		}
		return nil
	}))
	if err != nil {
		return nil, fmt.Errorf("the service's address %q: %w", address, err)
	}
	return &Client{raw, address}, nil
}

// ProblemError is an error the service answered with.
type ProblemError struct{ contract.Problem }

func (p *ProblemError) Error() string {
	s := p.Detail
	if p.Advice != nil {
		s += ". " + *p.Advice
	}
	return s
}

// Unreachable says that no service answered.
type Unreachable struct {
	Address string
	Err     error
}

func (e *Unreachable) Error() string {
	if _, untrusted := errors.AsType[*tls.CertificateVerificationError](e.Err); untrusted {
		return fmt.Sprintf(
			"the certificate of %s is not one that this machine trusts. If the service has an authority of its own, name the copy of its "+
				"authority.pem with --tls-authority", e.Address,
		)
	}
	return fmt.Sprintf(
		"no service answers at %s. Start one with \"hylostat serve\" or \"hylostat demo\", or name it with --service", e.Address,
	)
}

func (e *Unreachable) Unwrap() error { return e.Err }

// answerLimit bounds what is read of an answer, in bytes.
const answerLimit = 64 << 20

func call[T any](c *Client, resp *http.Response, err error) (out T, _ error) {
	body, err := c.answer(resp, err)
	if err != nil {
		return out, err
	}
	if err := json.Unmarshal(body, &out); err != nil {
		return out, fmt.Errorf("the answer of %s is not understood: %w. Its version may differ from this one", c.address, err)
	}
	return out, nil
}

// answer reads what the service answered, unless it is a problem.
func (c *Client) answer(resp *http.Response, err error) ([]byte, error) {
	if err != nil {
		if errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
			return nil, err
		}
		return nil, &Unreachable{c.address, err}
	}
	defer func() { _ = resp.Body.Close() }()
	body, err := io.ReadAll(io.LimitReader(resp.Body, answerLimit))
	if err != nil {
		return nil, fmt.Errorf("reading the answer of %s: %w", c.address, err)
	}
	if resp.StatusCode >= http.StatusBadRequest {
		p := &ProblemError{}
		if json.Unmarshal(body, &p.Problem) != nil || p.Detail == "" {
			return nil, fmt.Errorf("%s answered %s, which is no answer of this service. Check --service", c.address, resp.Status)
		}
		return nil, p
	}
	return body, nil
}

// copied writes what the service answered as it comes, unless it is a problem.
func (c *Client) copied(resp *http.Response, err error, to io.Writer) error {
	if err != nil || resp.StatusCode >= http.StatusBadRequest {
		_, err = c.answer(resp, err)
		return err
	}
	defer func() { _ = resp.Body.Close() }()
	if _, err := io.Copy(to, resp.Body); err != nil {
		return fmt.Errorf("reading the answer of %s: %w", c.address, err)
	}
	return nil
}

// Service tells what the service is.
func (c *Client) Service(ctx context.Context) (contract.Service, error) {
	r, err := c.raw.GetService(ctx)
	return call[contract.Service](c, r, err)
}

// Bays lists the bays.
func (c *Client) Bays(ctx context.Context) ([]contract.Bay, error) {
	r, err := c.raw.ListBays(ctx)
	return call[[]contract.Bay](c, r, err)
}

// Bay gives one bay.
func (c *Client) Bay(ctx context.Context, number contract.BayName) (contract.Bay, error) {
	r, err := c.raw.GetBay(ctx, number)
	return call[contract.Bay](c, r, err)
}

// SetBay sets a bay's number, label, or whether it is shown.
func (c *Client) SetBay(ctx context.Context, bay contract.BayName, s contract.BaySetting) (contract.Bay, error) {
	r, err := c.raw.SetBay(ctx, bay, s)
	return call[contract.Bay](c, r, err)
}

// ArrangeBays sets in which order the bays of a bench are shown.
func (c *Client) ArrangeBays(ctx context.Context, o contract.BayOrder) ([]contract.Bay, error) {
	r, err := c.raw.ArrangeBays(ctx, o)
	return call[[]contract.Bay](c, r, err)
}

// Attempt tries again to make the drive of a bay answer.
func (c *Client) Attempt(ctx context.Context, bay contract.BayName, by string) (contract.Bay, error) {
	r, err := c.raw.AttemptBay(ctx, bay, &contract.AttemptBayParams{By: &by})
	return call[contract.Bay](c, r, err)
}

// Vacate says that a bay is empty after all.
func (c *Client) Vacate(ctx context.Context, bay contract.BayName, by string) (contract.Bay, error) {
	r, err := c.raw.VacateBay(ctx, bay, &contract.VacateBayParams{By: &by})
	return call[contract.Bay](c, r, err)
}

// Signals gives every signal over a drive's life.
func (c *Client) Signals(ctx context.Context, drive string) (contract.Signals, error) {
	r, err := c.raw.GetSignals(ctx, drive)
	return call[contract.Signals](c, r, err)
}

// Dialect explains what a drive's attribute numbers mean.
func (c *Client) Dialect(ctx context.Context, drive string) (contract.Dialect, error) {
	r, err := c.raw.ExplainDialect(ctx, drive)
	return call[contract.Dialect](c, r, err)
}

// Record gives a record file of a drive's readings.
func (c *Client) Record(ctx context.Context, drive string) ([]byte, error) {
	r, err := c.raw.ExportRecord(ctx, drive)
	text, err := call[json.RawMessage](c, r, err)
	return text, err
}

// ImportRecord takes a record file in.
func (c *Client) ImportRecord(ctx context.Context, file io.Reader, by string) (contract.ImportResult, error) {
	r, err := c.raw.ImportRecordWithBody(ctx, &contract.ImportRecordParams{By: &by}, "application/vnd.hylostat.record", file)
	return call[contract.ImportResult](c, r, err)
}

// Redecode has the service read all pages of the past with its present decoder.
func (c *Client) Redecode(ctx context.Context, by string) (contract.RedecodeResult, error) {
	r, err := c.raw.Redecode(ctx, &contract.RedecodeParams{By: &by})
	return call[contract.RedecodeResult](c, r, err)
}

// RecordCopy notes that the data of the drive in a bay has been copied.
func (c *Client) RecordCopy(ctx context.Context, bay contract.BayName, by string) (contract.Intake, error) {
	r, err := c.raw.RecordCopy(ctx, bay, contract.Person{By: by})
	return call[contract.Intake](c, r, err)
}

// TakeIn takes a drive in.
func (c *Client) TakeIn(ctx context.Context, i contract.IntakeRequest) (contract.Intake, error) {
	r, err := c.raw.TakeIn(ctx, i)
	return call[contract.Intake](c, r, err)
}

// StandReading says whether a reading counts, and of which time it is.
func (c *Client) StandReading(
	ctx context.Context, drive string, reading int, to contract.ReadingStanding,
) (contract.ReadingSummary, error) {
	r, err := c.raw.StandReading(ctx, drive, strconv.Itoa(reading), to)
	return call[contract.ReadingSummary](c, r, err)
}

// ChangeIntake puts an intake right.
func (c *Client) ChangeIntake(ctx context.Context, intake int64, right contract.IntakeCorrection) (contract.Intake, error) {
	r, err := c.raw.ChangeIntake(ctx, intake, right)
	return call[contract.Intake](c, r, err)
}

// Drives lists drives.
func (c *Client) Drives(ctx context.Context, p contract.ListDrivesParams) ([]contract.ListedDrive, error) {
	r, err := c.raw.ListDrives(ctx, &p)
	return call[[]contract.ListedDrive](c, r, err)
}

// Drive gives one drive, named by serial, by an ending of it, or by bay-N.
func (c *Client) Drive(ctx context.Context, drive string) (contract.Drive, error) {
	r, err := c.raw.GetDrive(ctx, drive)
	return call[contract.Drive](c, r, err)
}

// ChangeDrive says what a drive is meant for. It is judged anew for that.
func (c *Client) ChangeDrive(ctx context.Context, drive string, change contract.DriveChange) (contract.Drive, error) {
	r, err := c.raw.ChangeDrive(ctx, drive, change)
	return call[contract.Drive](c, r, err)
}

// History gives everything that happened to a drive.
func (c *Client) History(ctx context.Context, drive string) ([]contract.Entry, error) {
	r, err := c.raw.GetHistory(ctx, drive)
	return call[[]contract.Entry](c, r, err)
}

// Readings lists a drive's readings.
func (c *Client) Readings(ctx context.Context, drive string) ([]contract.ReadingSummary, error) {
	r, err := c.raw.ListReadings(ctx, drive)
	return call[[]contract.ReadingSummary](c, r, err)
}

// Reading gives a reading; "latest" is the newest.
func (c *Client) Reading(ctx context.Context, drive, seq string, raw bool) (contract.Reading, error) {
	r, err := c.raw.GetReading(ctx, drive, seq, &contract.GetReadingParams{Raw: &raw})
	return call[contract.Reading](c, r, err)
}

// TakeReading takes a reading and waits for it.
func (c *Client) TakeReading(ctx context.Context, drive string, o contract.ReadingRequest) (contract.Reading, error) {
	r, err := c.raw.TakeReading(ctx, drive, o)
	return call[contract.Reading](c, r, err)
}

// Compare lays two readings beside each other; nil leaves the choice to the service.
func (c *Client) Compare(ctx context.Context, drive string, then, now *int) (contract.Comparison, error) {
	r, err := c.raw.CompareReadings(ctx, drive, &contract.CompareReadingsParams{Before: then, Now: now})
	return call[contract.Comparison](c, r, err)
}

// CheckQuick starts a quick check.
func (c *Client) CheckQuick(ctx context.Context, drive, by string) (contract.Run, error) {
	return c.Check(ctx, drive, contract.CheckRequest{Kind: "quick", By: by})
}

// Check starts a check.
func (c *Client) Check(ctx context.Context, drive string, request contract.CheckRequest) (contract.Run, error) {
	r, err := c.raw.StartCheck(ctx, drive, request)
	return call[contract.Run](c, r, err)
}

// RecordRelease notes the owner's consent that data on a drive may be destroyed.
func (c *Client) RecordRelease(ctx context.Context, drive string, r contract.ReleaseRequest) (contract.Intake, error) {
	resp, err := c.raw.RecordRelease(ctx, drive, r)
	return call[contract.Intake](c, resp, err)
}

// WithdrawRelease takes the consent back.
func (c *Client) WithdrawRelease(ctx context.Context, drive, by string) (contract.Intake, error) {
	resp, err := c.raw.WithdrawRelease(ctx, drive, &contract.WithdrawReleaseParams{By: by})
	return call[contract.Intake](c, resp, err)
}

// StartRework has a drive written to.
func (c *Client) StartRework(ctx context.Context, drive string, r contract.ReworkRequest) (contract.Run, error) {
	resp, err := c.raw.StartRework(ctx, drive, r)
	return call[contract.Run](c, resp, err)
}

// AskRework tells whether a rework could begin, the serial aside.
func (c *Client) AskRework(ctx context.Context, drive string, kind contract.ReworkKind) (contract.ReworkReady, error) {
	resp, err := c.raw.AskRework(ctx, drive, &contract.AskReworkParams{Kind: kind})
	return call[contract.ReworkReady](c, resp, err)
}

// Rework tells what a rework wrote and changed.
func (c *Client) Rework(ctx context.Context, run int64) (contract.Rework, error) {
	resp, err := c.raw.GetRework(ctx, run)
	return call[contract.Rework](c, resp, err)
}

// Queue tells the plan of a bench and how it stands; the shop's own bench has no name.
func (c *Client) Queue(ctx context.Context, bench string) (contract.Queue, error) {
	resp, err := c.raw.GetQueue(ctx, &contract.GetQueueParams{Bench: &bench})
	return call[contract.Queue](c, resp, err)
}

// SetPlan has every drive at a bench checked once; "none" ends that.
func (c *Client) SetPlan(ctx context.Context, bench, check, by string) (contract.Queue, error) {
	resp, err := c.raw.SetPlan(
		ctx, &contract.SetPlanParams{Bench: &bench}, contract.PlanRequest{Check: contract.PlanRequestCheck(check), By: by},
	)
	return call[contract.Queue](c, resp, err)
}

// SignTogether accepts the verdicts of drives that are healthy without a finding; no drives: of all there are.
func (c *Client) SignTogether(ctx context.Context, r contract.SignTogetherRequest) (contract.SignedTogether, error) {
	resp, err := c.raw.SignTogether(ctx, r)
	return call[contract.SignedTogether](c, resp, err)
}

// Policy gives the policy in force.
func (c *Client) Policy(ctx context.Context) (contract.Policy, error) {
	resp, err := c.raw.GetPolicy(ctx)
	return call[contract.Policy](c, resp, err)
}

// PolicyVersion gives a policy that is or was in force.
func (c *Client) PolicyVersion(ctx context.Context, version int) (contract.Policy, error) {
	resp, err := c.raw.GetPolicyVersion(ctx, version)
	return call[contract.Policy](c, resp, err)
}

// PublishPolicy puts a policy in force.
func (c *Client) PublishPolicy(ctx context.Context, p contract.PolicyPublication) (contract.Policy, error) {
	resp, err := c.raw.PublishPolicy(ctx, p)
	return call[contract.Policy](c, resp, err)
}

// TestPolicy puts a policy's own examples to its rules; no text: those of the one in force.
func (c *Client) TestPolicy(ctx context.Context, d contract.PolicyDraft) (contract.PolicyTrials, error) {
	resp, err := c.raw.TestPolicy(ctx, d)
	return call[contract.PolicyTrials](c, resp, err)
}

// ReplayPolicy runs a draft over everything that was recorded. It may take minutes.
func (c *Client) ReplayPolicy(ctx context.Context, d contract.PolicyDraft) (contract.Replay, error) {
	resp, err := c.raw.ReplayPolicy(ctx, d)
	return call[contract.Replay](c, resp, err)
}

// Outcome gives what became of a drive.
func (c *Client) Outcome(ctx context.Context, drive string) (contract.Outcome, error) {
	resp, err := c.raw.GetOutcome(ctx, drive)
	return call[contract.Outcome](c, resp, err)
}

// SetOutcome notes what became of a drive.
func (c *Client) SetOutcome(ctx context.Context, drive string, o contract.OutcomeRequest) (contract.Outcome, error) {
	resp, err := c.raw.SetOutcome(ctx, drive, o)
	return call[contract.Outcome](c, resp, err)
}

// Runs lists runs.
func (c *Client) Runs(ctx context.Context, p contract.ListRunsParams) ([]contract.Run, error) {
	r, err := c.raw.ListRuns(ctx, &p)
	return call[[]contract.Run](c, r, err)
}

// Run gives one run.
func (c *Client) Run(ctx context.Context, id int64) (contract.Run, error) {
	r, err := c.raw.GetRun(ctx, id)
	return call[contract.Run](c, r, err)
}

// PauseRun lets the sweep of a run wait.
func (c *Client) PauseRun(ctx context.Context, id int64, by string) (contract.Run, error) {
	resp, err := c.raw.PauseRun(ctx, id, contract.Person{By: by})
	return call[contract.Run](c, resp, err)
}

// ResumeRun lets the sweep of a run go on.
func (c *Client) ResumeRun(ctx context.Context, id int64, by string) (contract.Run, error) {
	resp, err := c.raw.ResumeRun(ctx, id, contract.Person{By: by})
	return call[contract.Run](c, resp, err)
}

// Sweep is the newest sweep of a run.
func (c *Client) Sweep(ctx context.Context, run int64) (contract.Sweep, error) {
	resp, err := c.raw.GetSweep(ctx, run)
	return call[contract.Sweep](c, resp, err)
}

// Figure is the ribbon of a run's newest sweep, as SVG or PNG.
func (c *Client) Figure(ctx context.Context, run int64, format string) ([]byte, error) {
	resp, err := c.raw.DrawSweep(ctx, run, &contract.DrawSweepParams{Format: &format})
	return c.answer(resp, err)
}

// Sweeps are the sweeps of a drive that ended, newest first.
func (c *Client) Sweeps(ctx context.Context, drive string) ([]contract.SweepSummary, error) {
	resp, err := c.raw.ListSweeps(ctx, drive)
	return call[[]contract.SweepSummary](c, resp, err)
}

// SweepDifferences lays the sweep of a run over that of an earlier one.
func (c *Client) SweepDifferences(ctx context.Context, run, earlier int64) ([]contract.SweepDifference, error) {
	resp, err := c.raw.CompareSweeps(ctx, run, &contract.CompareSweepsParams{Earlier: earlier})
	return call[[]contract.SweepDifference](c, resp, err)
}

// StopRun stops a run.
func (c *Client) StopRun(ctx context.Context, id int64, by string) (contract.Run, error) {
	r, err := c.raw.StopRun(ctx, id, contract.Person{By: by})
	return call[contract.Run](c, r, err)
}

// Verdict gives a drive's present verdict.
func (c *Client) Verdict(ctx context.Context, drive string) (contract.Verdict, error) {
	r, err := c.raw.GetVerdict(ctx, drive)
	return call[contract.Verdict](c, r, err)
}

// Sign accepts or overrules a verdict.
func (c *Client) Sign(ctx context.Context, drive string, s contract.SignOffRequest) (contract.Verdict, error) {
	r, err := c.raw.SignVerdict(ctx, drive, s)
	return call[contract.Verdict](c, r, err)
}
