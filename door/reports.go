package door

import (
	"net/http"
	"time"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/directory"
	"github.com/briskwarden/briskwarden/internal/jsontext"
	"github.com/briskwarden/briskwarden/journal"
)

// DeviceReport is what a device reports of itself.
type DeviceReport struct {
	Platform string                    `json:"platform,omitzero" doc:"its platform, such as windows"`
	Facts    map[string]attempt.Scalar `json:"facts" doc:"what it reports, by name"`
	// ReportedAt is the moment at which it is received where it is left out.
	ReportedAt time.Time `json:"reported_at,omitzero" doc:"when it was made; left out, now"`
}

// mostReport is how large a report may be, in bytes, and mostFacts how many facts it may have.
const mostReport, mostFacts = 64 << 10, 500

// serveReport answers PUT /v1/devices/{id}/report.
func (d *Door) serveReport(w http.ResponseWriter, r *Request) error {
	id := r.PathValue("id")
	if err := directory.CheckName(id); err != nil {
		return Problemf(http.StatusUnprocessableEntity, "The identity of the device: %s.", err)
	}
	text, err := ReadBody(w, r, mostReport)
	if err != nil {
		return err
	}
	var report DeviceReport
	if err := decodeStrictly(text, &report); err != nil {
		return Problemf(http.StatusBadRequest, "%s", err)
	}
	now := d.now()
	if report.ReportedAt.IsZero() {
		report.ReportedAt = now
	}
	switch {
	case report.Facts == nil:
		return Problemf(http.StatusUnprocessableEntity,
			"The report lacks `facts`: what the device reports, by name, such as {\"firewall\": true}.")
	case len(report.Facts) > mostFacts:
		return Problemf(http.StatusUnprocessableEntity, "A report has at most %d facts.", mostFacts)
	case attempt.IsLater(report.ReportedAt, now):
		return Problemf(http.StatusUnprocessableEntity, "The report is dated %s, which is yet to come; set the clock of the device.",
			report.ReportedAt.UTC().Format(time.RFC3339))
	case report.ReportedAt.After(now):
		report.ReportedAt = now // by a clock that is a little ahead, which is to keep no later report out
	}
	for name := range report.Facts {
		if err := directory.CheckName(name); err != nil {
			return Problemf(http.StatusUnprocessableEntity, "The fact %q: %s.", name, err)
		}
	}
	older := false
	j := &job{urgent: true, change: func(b *Change) error {
		device, err := b.device(id)
		if err != nil {
			return err
		}
		// One that is dated ahead is of a clock that ran ahead then.
		was := device.ReportedAt
		if older = was != nil && report.ReportedAt.Before(*was) && !attempt.IsLater(*was, now); older {
			return nil
		}
		device.Facts, device.ReportedAt = report.Facts, &report.ReportedAt
		if report.Platform != "" {
			device.Platform = report.Platform
		}
		b.Record(journal.Make(journal.Report, journal.NewID(), now, r.caller.Name, "", "report", report.appendJSON(nil, id)))
		return nil
	}}
	if err := d.recorder.do(j); err != nil {
		return d.Unavailable(err)
	}
	if older {
		return Problemf(http.StatusConflict, "A later report of the device is there already.")
	}
	d.lookAgain(review{device: id, because: "the device reported something else"})
	w.WriteHeader(http.StatusNoContent)
	return nil
}

func (r *DeviceReport) appendJSON(text []byte, id string) []byte {
	text = jsontext.String(jsontext.Key(append(text, '{'), "device"), id)
	text = jsontext.Text(text, "platform", r.Platform)
	text = attempt.AppendScalars(jsontext.Key(text, "facts"), r.Facts)
	return append(jsontext.Time(jsontext.Key(text, "reported_at"), r.ReportedAt), '}')
}
