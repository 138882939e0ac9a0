package notify

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"
	webhook "github.com/standard-webhooks/standard-webhooks/libraries/go"

	routes "hylostat.example/internal/core/tell"
	"hylostat.example/internal/shop/tell"
)

// caller calls programs: a CloudEvents 1.0 event as structured JSON, signed as Standard Webhooks says (symmetric signature, v1).
type caller struct{ agent string }

// Told is the data of an event: one alert. Times are RFC 3339.
type Told struct {
	Alert    int64      `json:"alert,omitempty"` // its number
	Kind     string     `json:"kind,omitempty"`
	What     string     `json:"what"` // opened, reopened, grew, ended, trial
	State    string     `json:"state,omitempty"`
	Severity string     `json:"severity"`
	Of       string     `json:"of"`
	Says     string     `json:"says"`
	Before   float64    `json:"before,omitempty"`
	Level    float64    `json:"level,omitempty"`
	Count    int        `json:"count,omitempty"`
	Opened   time.Time  `json:"opened,omitzero"`
	Moved    time.Time  `json:"moved,omitzero"`
	Ended    time.Time  `json:"ended,omitzero"`
	Drive    *ToldDrive `json:"drive,omitempty"`
	Bench    string     `json:"bench,omitempty"`
	Bay      string     `json:"bay,omitempty"`
	Do       string     `json:"do,omitempty"`
	Ticket   string     `json:"ticket,omitempty"`
	Customer string     `json:"customer,omitempty"`
	Page     string     `json:"page,omitempty"`
}

// ToldDrive is the drive an alert is about.
type ToldDrive struct {
	Serial string `json:"serial"`
	Model  string `json:"model"`
	Grade  string `json:"grade"`
}

func toldOf(r routes.Route, l *tell.Letter, b *tell.Body) Told {
	t := Told{
		Alert: b.Alert.ID, Kind: string(b.Alert.Kind), What: string(b.Tells), State: string(b.Alert.State),
		Severity: string(b.Alert.Severity),
		Of:       b.Of.String(), Says: b.Alert.Said.String(), Before: b.Alert.Before, Level: b.Alert.Level, Count: b.Alert.Count,
		Opened: b.Alert.Opened, Moved: b.Alert.Moved, Ended: b.Alert.Ended, Bench: b.Alert.Bench, Do: b.Advice, Ticket: b.Ticket,
		Customer: b.Customer, Page: page(r, b),
	}
	if l.Trial {
		t.What = "trial"
	}
	if b.Serial != "" {
		t.Drive = &ToldDrive{b.Serial, b.Model, b.Grade}
	}
	if !b.Bay.IsZero() {
		t.Bay = b.Bay.String()
	}
	return t
}

// eventOf is the event of a letter. A digest is one event of several.
func eventOf(r routes.Route, l *tell.Letter) (event.Event, error) {
	all := make([]Told, len(l.All))
	for i := range l.All {
		all[i] = toldOf(r, l, &l.All[i])
	}
	e := event.New(event.CloudEventsVersionV1)
	e.SetID(l.ID)
	e.SetSource("urn:hylostat:shop:" + l.Key)
	e.SetTime(l.At)
	if len(all) > 1 {
		e.SetType("example.hylostat.alerts.digest")
		return e, e.SetData(event.ApplicationJSON, all)
	}
	e.SetType("example.hylostat.alert." + all[0].What)
	if all[0].Drive != nil {
		e.SetSubject(all[0].Drive.Serial)
	}
	return e, e.SetData(event.ApplicationJSON, all[0])
}

// mostAnswer bounds what is read of an answer.
const mostAnswer = 4096

// Send implements tell.Sender.
func (c caller) Send(ctx context.Context, r routes.Route, secret string, l tell.Letter) (words []string, err error) {
	e, err := eventOf(r, &l)
	if err != nil {
		return nil, &tell.Refused{Why: err.Error()}
	}
	body, err := json.Marshal(e)
	if err != nil {
		return nil, &tell.Refused{Why: err.Error()}
	}
	u, err := url.Parse(r.To)
	if err != nil {
		return nil, &tell.Refused{Why: err.Error()}
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, r.To, bytes.NewReader(body))
	if err != nil {
		return nil, &tell.Refused{Why: err.Error()}
	}
	now := time.Now() // who receives it compares it with the time there is
	request.Header.Set("Content-Type", event.ApplicationCloudEventsJSON)
	request.Header.Set("User-Agent", c.agent)
	request.Header.Set(webhook.HeaderWebhookID, l.ID)
	request.Header.Set(webhook.HeaderWebhookTimestamp, strconv.FormatInt(now.Unix(), 10))
	if secret != "" {
		signer, err := webhook.NewWebhook(secret)
		if err != nil {
			return nil, &tell.Refused{Why: "the route's secret signs nothing: it is whsec_ and base64"}
		}
		signature, err := signer.Sign(l.ID, now, body)
		if err != nil {
			return nil, &tell.Refused{Why: err.Error()}
		}
		request.Header.Set(webhook.HeaderWebhookSignature, signature)
	}
	config, err := trusting(r, u.Hostname())
	if err != nil {
		return nil, err
	}
	transport := &http.Transport{
		DialContext: dialer().DialContext, TLSClientConfig: config, TLSHandshakeTimeout: dialWithin, DisableKeepAlives: true,
		ForceAttemptHTTP2: true,
	}
	client := http.Client{
		Transport:     transport,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }, // a letter goes where it was to go
	}
	words = append(words, fmt.Sprintf("> POST %s, %d bytes", r.To, len(body)))
	answer, err := client.Do(request)
	if err != nil {
		return words, wrong("calling "+u.Host, err)
	}
	defer func() { _ = answer.Body.Close() }()
	said, _ := io.ReadAll(io.LimitReader(answer.Body, mostAnswer))
	words = append(words, "< "+answer.Status)
	for line := range strings.Lines(string(said)) {
		if len(words) < mostWords {
			words = append(words, "< "+strings.ToValidUTF8(strings.TrimSpace(line), "?"))
		}
	}
	switch {
	case answer.StatusCode == http.StatusGone:
		return words, &tell.Gone{Why: u.Host + " answered 410: it wants nothing any more"}
	case answer.StatusCode >= 300 && answer.StatusCode < 400:
		return words, &tell.Refused{Why: fmt.Sprintf("%s answered %s: a letter follows nobody elsewhere", u.Host, answer.Status)}
	case answer.StatusCode >= 300:
		return words, fmt.Errorf("%s answered %s", u.Host, answer.Status)
	}
	return words, nil
}

func pathOf(serial string) string { return url.PathEscape(serial) }
