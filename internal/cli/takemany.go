package cli

import (
	"context"
	"fmt"
	"time"

	"candidharbor/api"

	"github.com/urfave/cli/v3"
)

// takeMany takes snapshots of many volumes, waits for them unless told not to, and says what came of each that did not
// go well.
func (f *session) takeMany(ctx context.Context, cmd *cli.Command, ask api.SnapshotsTake) error {
	if len(ask.Volumes) == 0 && ask.Policy == "" && len(ask.Labels) == 0 && !ask.Due {
		return misuse("no volume is chosen: name some, or give --policy, --volumes or --due")
	}
	var out api.SnapshotsTaken
	if err := f.Post(ctx, "/snapshots", ask, &out); err != nil {
		return err
	}
	if !cmd.Bool("no-wait") {
		for i := range out.Runs {
			if err := f.awaitRun(ctx, &out.Runs[i]); err != nil {
				return err
			}
		}
	}
	good, remarks, failed := 0, 0, len(out.Refused)
	var rows [][]string
	for _, x := range out.Refused {
		rows = append(rows, []string{x.Volume, "-", "refused", x.Why})
	}
	for _, r := range out.Runs {
		switch {
		case r.State == api.RunDone:
			good++
			continue
		case r.State == api.RunDoneWithRemarks:
			good++
			remarks++
		case r.Ended != nil:
			failed++
		default:
			continue // it goes on
		}
		rows = append(rows, []string{r.Subject, fmt.Sprint(r.ID), r.State, r.Outcome})
	}
	if err := f.show(out, func() {
		switch {
		case len(out.Runs)+len(out.Refused) == 0:
			f.say("No volume was chosen by that: nothing was taken.")
		case cmd.Bool("no-wait"):
			f.say("Begun: %d; refused: %d. See how they go: candid run list", len(out.Runs), failed)
		default:
			f.say("Taken: %d; not taken: %d.", good, failed)
		}
		if len(rows) > 0 {
			f.list([]string{"VOLUME", "RUN", "STATE", "WHY"}, rows, "")
		}
	}); err != nil {
		return err
	}
	switch {
	case failed > 0:
		return &exitError{code: exitFailed}
	case remarks > 0 && cmd.Bool("strict"):
		return &exitError{code: exitRemarks}
	}
	return nil
}

// awaitRun asks for a run until it is over.
func (f *session) awaitRun(ctx context.Context, r *api.Run) error {
	for wait := 50 * time.Millisecond; r.Ended == nil; wait = min(2*wait, 2*time.Second) {
		if err := f.Get(ctx, fmt.Sprintf("/runs/%d", r.ID), nil, r); err != nil {
			return err
		}
		if r.Ended != nil {
			return nil
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return nil
}
