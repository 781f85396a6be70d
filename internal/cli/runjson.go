package cli

import (
	"time"

	"testbench/internal/exchange"
	"testbench/internal/result"
	"testbench/internal/workbench"
)

// jsonRun writes a line of JSON an event.
type jsonRun struct{ *session }

func (r *jsonRun) event(kind string, fields map[string]any) {
	fields["event"] = kind
	_ = r.tell.jsonLine(fields)
}

func (r *jsonRun) SheetStarted(sheet *workbench.SheetResult) {
	r.event("sheet started",
		map[string]any{"sheet": sheet.Name, "file": sheet.File, "site": sheet.Site, "rows": sheet.RowCount})
}

func (r *jsonRun) RowStarted(*workbench.SheetResult, *workbench.RowResult) {}

func (r *jsonRun) StepDone(sheet *workbench.SheetResult, row *workbench.RowResult, step *workbench.StepResult) {
	r.event("step done", map[string]any{
		"sheet": sheet.Name, "row": row.Number, "turn": row.Iteration,
		"step": step.Record(r.masker),
	})
}

func (r *jsonRun) RowDone(sheet *workbench.SheetResult, row *workbench.RowResult) {
	r.event("row done", map[string]any{
		"sheet": sheet.Name, "row": row.Number, "turn": row.Iteration,
		"label": row.Label, "phase": row.Phase, "outcome": row.Outcome,
	})
}

func (r *jsonRun) RecordLost(err error) {
	r.event("record lost", map[string]any{"reason": r.tell.message(err.Error())})
}

func (r *jsonRun) SheetDone(sheet *workbench.SheetResult) {
	record := sheet.Record()
	r.event("sheet done", map[string]any{
		"sheet": sheet.Name, "outcome": sheet.Outcome,
		"seconds": sheet.Took.Round(time.Millisecond).Seconds(), "counts": record.Counts, "times": record.Times,
		"checks": record.Checks, "notes": record.Notes,
	})
}

func (r *jsonRun) WouldSend(_ *workbench.RowResult, step *workbench.StepResult, request *exchange.Request,
	reason string,
) {
	fields := map[string]any{"step": step.Name}
	if request != nil {
		fields["request"] = result.RequestRecord(request, r.masker)
	} else {
		fields["unknown"] = reason
	}
	r.event("would send", fields)
}
