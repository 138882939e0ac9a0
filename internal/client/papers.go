package client

import (
	"context"
	"io"

	"hylostat.example/internal/contract"
)

// Intakes lists intakes.
func (c *Client) Intakes(ctx context.Context, p contract.ListIntakesParams) ([]contract.Intake, error) {
	r, err := c.raw.ListIntakes(ctx, &p)
	return call[[]contract.Intake](c, r, err)
}

// HandOver ends an intake.
func (c *Client) HandOver(ctx context.Context, intake int64, h contract.HandoverRequest) (contract.Intake, error) {
	r, err := c.raw.HandOver(ctx, intake, h)
	return call[contract.Intake](c, r, err)
}

// MoveIntake tries a drive that does not answer in another bay.
func (c *Client) MoveIntake(ctx context.Context, intake int64, bay contract.BayName, by string) (contract.Intake, error) {
	r, err := c.raw.MoveIntake(ctx, intake, contract.MoveRequest{Bay: bay, By: by})
	return call[contract.Intake](c, r, err)
}

// Lots lists lots.
func (c *Client) Lots(ctx context.Context) ([]contract.Lot, error) {
	r, err := c.raw.ListLots(ctx)
	return call[[]contract.Lot](c, r, err)
}

// OpenLot opens a lot.
func (c *Client) OpenLot(ctx context.Context, l contract.LotRequest) (contract.Lot, error) {
	r, err := c.raw.OpenLot(ctx, l)
	return call[contract.Lot](c, r, err)
}

// EndLot ends taking drives in on a lot.
func (c *Client) EndLot(ctx context.Context, lot int64, by string) (contract.Lot, error) {
	r, err := c.raw.EndLot(ctx, lot, contract.Person{By: by})
	return call[contract.Lot](c, r, err)
}

// Lot gives a lot with its drives.
func (c *Client) Lot(ctx context.Context, lot int64) (contract.LotView, error) {
	r, err := c.raw.GetLot(ctx, lot)
	return call[contract.LotView](c, r, err)
}

// LotSummary gives a lot's summary, as PDF or CSV.
func (c *Client) LotSummary(ctx context.Context, lot int64, format string) ([]byte, error) {
	r, err := c.raw.PrintLot(ctx, lot, &contract.PrintLotParams{Format: &format})
	return c.answer(r, err)
}

// LotLabels gives the labels of a lot as PDF.
func (c *Client) LotLabels(ctx context.Context, lot int64, p contract.PrintLabelsParams) ([]byte, error) {
	r, err := c.raw.PrintLabels(ctx, lot, &p)
	return c.answer(r, err)
}

// DrivesTable gives the drives that match as CSV; After and Limit are not heeded.
func (c *Client) DrivesTable(ctx context.Context, p contract.ListDrivesParams) ([]byte, error) {
	q := contract.TableOfDrivesParams{Q: p.Q, Grade: p.Grade, Lot: p.Lot, FromHours: p.FromHours, ToHours: p.ToHours}
	if p.Medium != nil {
		medium := contract.TableOfDrivesParamsMedium(*p.Medium)
		q.Medium = &medium
	}
	r, err := c.raw.TableOfDrives(ctx, &q)
	return c.answer(r, err)
}

// SignalsTable writes the signals of the drives that match, over time; After and Limit are not heeded.
func (c *Client) SignalsTable(ctx context.Context, p contract.ListDrivesParams, format string, to io.Writer) error {
	f := contract.TableOfSignalsParamsFormat(format)
	q := contract.TableOfSignalsParams{Q: p.Q, Grade: p.Grade, Lot: p.Lot, FromHours: p.FromHours, ToHours: p.ToHours, Format: &f}
	if p.Medium != nil {
		medium := contract.TableOfSignalsParamsMedium(*p.Medium)
		q.Medium = &medium
	}
	r, err := c.raw.TableOfSignals(ctx, &q)
	return c.copied(r, err, to)
}

// DriveLabels gives the labels of several drives as PDF.
func (c *Client) DriveLabels(ctx context.Context, p contract.PrintDriveLabelsParams) ([]byte, error) {
	r, err := c.raw.PrintDriveLabels(ctx, &p)
	return c.answer(r, err)
}

// Siblings compares a drive with the others of its model.
func (c *Client) Siblings(ctx context.Context, drive string) (contract.Siblings, error) {
	r, err := c.raw.GetSiblings(ctx, drive)
	return call[contract.Siblings](c, r, err)
}

// Statement gives what a drive's statement says, in a language, or in the customer's when that is nil.
func (c *Client) Statement(ctx context.Context, drive string, language *contract.Language) (contract.Statement, error) {
	r, err := c.raw.GetStatement(ctx, drive, &contract.GetStatementParams{Language: language})
	return call[contract.Statement](c, r, err)
}

// StatementPage gives a drive's statement to print: "html" or "pdf".
func (c *Client) StatementPage(ctx context.Context, drive, format string, language *contract.Language) ([]byte, error) {
	r, err := c.raw.GetStatement(ctx, drive, &contract.GetStatementParams{Format: &format, Language: language})
	return c.answer(r, err)
}

// Label gives what a drive's label says.
func (c *Client) Label(ctx context.Context, drive string) (contract.Label, error) {
	r, err := c.raw.GetLabel(ctx, drive, &contract.GetLabelParams{})
	return call[contract.Label](c, r, err)
}

// LabelPage gives a drive's label to print: as the parameters say.
func (c *Client) LabelPage(ctx context.Context, drive string, p contract.GetLabelParams) ([]byte, error) {
	r, err := c.raw.GetLabel(ctx, drive, &p)
	return c.answer(r, err)
}

// Archive gives the whole record of a drive as a ZIP.
func (c *Client) Archive(ctx context.Context, drive string) ([]byte, error) {
	r, err := c.raw.GetArchive(ctx, drive)
	return c.answer(r, err)
}

// EraseCustomer forgets a customer.
func (c *Client) EraseCustomer(ctx context.Context, e contract.EraseRequest) (contract.Erased, error) {
	r, err := c.raw.EraseCustomer(ctx, e)
	return call[contract.Erased](c, r, err)
}

// Audit lists what people did.
func (c *Client) Audit(ctx context.Context, p contract.ListAuditParams) ([]contract.Audited, error) {
	r, err := c.raw.ListAudit(ctx, &p)
	return call[[]contract.Audited](c, r, err)
}

// VerifyAudit checks the audit, and whether it still has a head; none is named: empty.
func (c *Client) VerifyAudit(ctx context.Context, head string) (contract.AuditVerification, error) {
	p := contract.VerifyAuditParams{}
	if head != "" {
		p.Head = &head
	}
	r, err := c.raw.VerifyAudit(ctx, &p)
	return call[contract.AuditVerification](c, r, err)
}

// AuditHead gives the head of the audit, signed.
func (c *Client) AuditHead(ctx context.Context) (contract.AuditHead, error) {
	r, err := c.raw.GetAuditHead(ctx)
	return call[contract.AuditHead](c, r, err)
}

// People lists who works here.
func (c *Client) People(ctx context.Context) ([]contract.Worker, error) {
	r, err := c.raw.ListPeople(ctx)
	return call[[]contract.Worker](c, r, err)
}

// AddPerson adds or changes a person.
func (c *Client) AddPerson(ctx context.Context, w contract.WorkerRequest) (contract.Worker, error) {
	r, err := c.raw.AddPerson(ctx, w)
	return call[contract.Worker](c, r, err)
}

// RemovePerson removes a person.
func (c *Client) RemovePerson(ctx context.Context, name, by string) ([]contract.Worker, error) {
	r, err := c.raw.RemovePerson(ctx, name, &contract.RemovePersonParams{By: &by})
	return call[[]contract.Worker](c, r, err)
}

// Volumes gives what was seen of a drive's file systems last.
func (c *Client) Volumes(ctx context.Context, drive string) (contract.Volumes, error) {
	r, err := c.raw.GetVolumes(ctx, drive)
	return call[contract.Volumes](c, r, err)
}

// LookAtVolumes has a drive's file systems looked at, and waits.
func (c *Client) LookAtVolumes(ctx context.Context, drive, by string) (contract.Volumes, error) {
	r, err := c.raw.LookAtVolumes(ctx, drive, contract.Person{By: by})
	return call[contract.Volumes](c, r, err)
}
