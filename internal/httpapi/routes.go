package httpapi

import (
	"context"
	"strconv"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/internal/catalog"

	"github.com/danielgtaylor/huma/v2"
)

type none struct{}

type body[T any] struct{ Body T }

type said struct {
	Body struct {
		Sentence string `json:"sentence"`
	}
}

func sentence(text string, err error) (*said, error) {
	if err != nil {
		return nil, fail(err)
	}
	out := &said{}
	out.Body.Sentence = text
	return out, nil
}

type named struct {
	Name string `path:"name"`
}

type identified struct {
	ID string `path:"id"`
}

func answer[T any](v T, err error) (*body[T], error) {
	if err != nil {
		return nil, fail(err)
	}
	return &body[T]{v}, nil
}

type secretBody[T any] struct {
	CacheControl string `header:"Cache-Control"`
	Body         T
}

func answerSecret[T any](v T, err error) (*secretBody[T], error) {
	if err != nil {
		return nil, fail(err)
	}
	return &secretBody[T]{secret, v}, nil
}

func answerAt[T any](v *T, err error) (*body[T], error) {
	if err != nil {
		return nil, fail(err)
	}
	return &body[T]{*v}, nil
}

func op(method, path, id, summary string, status ...int) huma.Operation {
	o := huma.Operation{Method: method, Path: path, OperationID: id, Summary: summary, Errors: []int{401, 404, 409, 422}}
	if len(status) > 0 {
		o.DefaultStatus = status[0]
	}
	return o
}

// register lists every operation of the API.
func (s *server) register(a huma.API) {
	huma.Register(a, op("GET", "/site", "getSite", "The site that answers"), func(ctx context.Context,
		_ *none) (*body[api.Site], error) {
		return answer(s.site.Info())
	})
	huma.Register(a, op("GET", "/status", "getStatus", "How everything stands, in sentences first"),
		func(ctx context.Context, _ *none) (*body[api.Status], error) {
			st, err := s.site.Overview.Status()
			if err == nil {
				st.Running = unnamedRuns(ctx, st.Running)
			}
			return answerAt(st, err)
		})
	huma.Register(a, op("GET", "/today", "getToday", "How everything stands, in what fits on a page: sentences, what "+
		"runs and comes, and the lines of the ruler, what needs a hand first"),
		func(ctx context.Context, in *struct {
			By string `query:"by" doc:"state, label KEY or nothing; not said: state where there are more than 24 volumes"`
		}) (*body[api.Today], error) {
			out, err := s.site.Overview.Today(in.By)
			if err == nil {
				out.Running = unnamedRuns(ctx, out.Running)
			}
			return answerAt(out, err)
		})
	s.registerVolumes(a)
	s.registerHost(a)
	s.registerSnapshots(a)
	s.registerRecovery(a)
	s.registerDisks(a)
	s.registerFailover(a)
	s.registerPolicies(a)
	s.registerStore(a)
	s.registerPeers(a)
	s.registerAlarms(a)
	s.registerPeople(a)
	s.registerCrates(a)
	s.registerChosen(a)
	s.registerPlaces(a)
	s.registerRuns(a)
	s.registerOutlets(a)
	describe(a.OpenAPI())
}

func (s *server) registerVolumes(a huma.API) {
	huma.Register(a, op("GET", "/volumes", "listVolumes", "All volumes"), func(ctx context.Context,
		_ *none) (*body[[]api.Volume], error) {
		return answer(s.site.Overview.Volumes())
	})
	huma.Register(a, op("POST", "/volumes", "addVolume", "Protect a directory", 201), func(ctx context.Context,
		in *body[api.VolumeAdd]) (*body[api.VolumeFound], error) {
		return answerAt(s.site.Capture.AddVolume(ctx, in.Body))
	})
	huma.Register(a, op("GET", "/volumes/{name}", "getVolume", "One volume"), func(ctx context.Context,
		in *named) (*body[api.Volume], error) {
		return answerAt(s.site.Overview.Volume(in.Name))
	})
	huma.Register(a, op("DELETE", "/volumes/{name}", "removeVolume", "Stop protecting a volume; its snapshots stay"),
		func(ctx context.Context, in *named) (*said, error) {
			return sentence(s.site.Capture.RemoveVolume(in.Name))
		})
	huma.Register(a, op("GET", "/volumes/{name}/space", "getSpace", "What a volume's snapshots take here"),
		func(ctx context.Context, in *named) (*body[api.Space], error) {
			return answerAt(s.site.Rules.Space(in.Name))
		})
	huma.Register(a, op("POST", "/snapshots/freeing", "freeing", "What removing snapshots would give back"),
		func(ctx context.Context, in *body[api.FreeAsk]) (*body[api.Freeing], error) {
			return answerAt(s.site.Rules.Freeing(in.Body.IDs))
		})
	huma.Register(a, op("PATCH", "/volumes/{name}", "changeVolume",
		"Have a volume lie elsewhere or leave out other names, or tell what would be there"),
		func(ctx context.Context, in *struct {
			Name string `path:"name"`
			Body api.VolumeChange
		}) (*body[api.VolumeFound], error) {
			return answerAt(s.site.Capture.ChangeVolume(ctx, in.Name, in.Body))
		})
	huma.Register(a, op("POST", "/volumes/labels", "labelVolumes",
		"Set labels of many volumes and take others away, or tell what that would change"),
		func(ctx context.Context, in *body[api.LabelsMany]) (*body[api.LabelsChanged], error) {
			return answerAt(s.site.Capture.LabelMany(in.Body))
		})
	huma.Register(a, op("PUT", "/volumes/{name}/labels", "setLabels",
		"Give a volume other labels, or tell what that would change"), func(ctx context.Context, in *struct {
		Name string `path:"name"`
		Body api.LabelsPut
	}) (*body[api.LabelChange], error) {
		return answerAt(s.site.Capture.SetLabels(in.Name, in.Body))
	})
	huma.Register(a, op("POST", "/volumes/{name}/admit", "admitSnapshots",
		"Let snapshots that arrived out of turn count: those named, or all"), func(ctx context.Context, in *struct {
		Name string `path:"name"`
		Body api.Admit
	}) (*said, error) {
		return sentence(s.site.Capture.Admit(in.Name, in.Body.Snapshots))
	})
	huma.Register(a, op("PUT", "/volumes/{name}/standby", "setStandby", "Lay a copy out ready for use, or no longer"),
		func(ctx context.Context, in *struct {
			Name string `path:"name"`
			Body api.StandbySet
		}) (*said, error) {
			return sentence(s.site.Routes.SetStandby(in.Name, in.Body, caller(ctx)))
		})
	huma.Register(a, op("POST", "/volumes/{name}/accept-rules", "acceptRules",
		"Let the rules that the origin proposes apply here although they keep less"), func(ctx context.Context,
		in *named) (*said, error) {
		return sentence(s.site.Rules.AcceptRules(in.Name))
	})
	huma.Register(a, op("POST", "/volumes/{name}/confirm", "confirmVolume",
		"Say that a volume is meant to be as it is now"), func(ctx context.Context, in *named) (*said, error) {
		return sentence(s.site.Capture.ConfirmVolume(in.Name))
	})
	huma.Register(a, op("POST", "/volumes/{name}/pause", "pauseVolume",
		"Take nothing of a volume and let nothing of it go"), func(ctx context.Context, in *named) (*said, error) {
		return sentence(s.site.Rules.PauseVolume(in.Name))
	})
	huma.Register(a, op("POST", "/volumes/{name}/resume", "resumeVolume", "End a pause"), func(ctx context.Context,
		in *named) (*said, error) {
		return sentence(s.site.Rules.ResumeVolume(in.Name))
	})
	huma.Register(a, op("GET", "/volumes/{name}/explanation", "explain", "What answers for a moment and why; without "+
		"one, what protects the volume"), func(ctx context.Context, in *struct {
		Name string `path:"name"`
		At   string `query:"at" doc:"RFC 3339, latest, or a snapshot's id"`
	}) (*body[api.Explanation], error) {
		return answerAt(s.site.Overview.Explain(in.Name, in.At))
	})
	huma.Register(a, op("GET", "/volumes/{name}/browse", "browse", "A directory as of a moment"), func(ctx context.Context,
		in *struct {
			Name  string `path:"name"`
			At    string `query:"at" doc:"RFC 3339, latest, or a snapshot's id"`
			Path  string `query:"path"`
			After string `query:"after" doc:"cursor"`
		}) (*body[api.Browse], error) {
		return answerAt(s.eyes(ctx).Browse(in.Name, in.At, in.Path, in.After))
	})
	huma.Register(a, op("GET", "/volumes/{name}/timeline", "getTimeline", "What the time ruler shows"),
		func(ctx context.Context, in *struct {
			Name string    `path:"name"`
			From time.Time `query:"from" required:"true"`
			To   time.Time `query:"to" required:"true"`
		}) (*body[api.Timeline], error) {
			return answerAt(s.eyes(ctx).Timeline(in.Name, in.From, in.To))
		})
	huma.Register(a, op("GET", "/timelines", "listTimelines", "What the time ruler shows of several volumes"),
		func(ctx context.Context, in *struct {
			Name []string  `query:"name,explode" required:"true" minItems:"1" maxItems:"100"`
			From time.Time `query:"from" required:"true"`
			To   time.Time `query:"to" required:"true"`
		}) (*body[api.Page[api.Timeline]], error) {
			return answerAt(s.eyes(ctx).Timelines(ctx, in.Name, in.From, in.To))
		})
}

func (s *server) registerSnapshots(a huma.API) {
	huma.Register(a, op("GET", "/volumes/{name}/snapshots", "listSnapshots", "A volume's snapshots here, newest first"),
		func(ctx context.Context, in *struct {
			Name  string    `path:"name"`
			From  time.Time `query:"from"`
			To    time.Time `query:"to"`
			After string    `query:"after" doc:"cursor"`
			Limit int       `query:"limit" minimum:"1" maximum:"1000" default:"100"`
		}) (*body[api.Page[api.Snapshot]], error) {
			return answer(s.site.Recovery.Snapshots(in.Name, catalog.SnapshotFilter{From: in.From, To: in.To, After: in.After,
				Limit: in.Limit}))
		})
	huma.Register(a, op("POST", "/volumes/{name}/snapshots", "takeSnapshot", "Take a snapshot now", 202),
		func(ctx context.Context, in *struct {
			Name string `path:"name"`
			Body api.SnapshotTake
		}) (*body[api.Run], error) {
			return answer(s.site.Capture.TakeSnapshot(in.Name, in.Body, caller(ctx)))
		})
	huma.Register(a, op("POST", "/snapshots", "takeSnapshots", "Take snapshots of many volumes now", 202),
		func(ctx context.Context, in *body[api.SnapshotsTake]) (*body[api.SnapshotsTaken], error) {
			return answerAt(s.site.Overview.TakeMany(in.Body, caller(ctx)))
		})
	huma.Register(a, op("GET", "/snapshots", "listAllSnapshots",
		"The snapshots of all volumes here, newest first or in another order"),
		func(ctx context.Context, in *struct {
			Volume string    `query:"volume"`
			Text   string    `query:"text" doc:"in the volume's name, the note, the reason to keep or the name of its set"`
			Cause  string    `query:"cause" doc:"scheduled, by hand, safety …"`
			Label  string    `query:"label" doc:"key=value"`
			Which  string    `query:"which" doc:"kept, grace, marked (to keep), end (of its own), turn (out of it), here (only)"`
			Site   string    `query:"site" doc:"only those that were carried to it"`
			Sort   string    `query:"sort" enum:"newest,oldest,volume,new,size,own" default:"newest" doc:"own fills unique"`
			From   time.Time `query:"from"`
			To     time.Time `query:"to"`
			After  string    `query:"after" doc:"cursor"`
			Limit  int       `query:"limit" minimum:"1" maximum:"1000" default:"100"`
		}) (*body[api.Page[api.Snapshot]], error) {
			k, v, _ := strings.Cut(in.Label, "=")
			return answer(s.site.Recovery.AllSnapshots(ctx, catalog.AllFilter{Volume: in.Volume, Text: in.Text,
				Cause: in.Cause, Label: [2]string{k, v}, Which: in.Which, Site: in.Site, Sort: catalog.Sorting(in.Sort),
				SnapshotFilter: catalog.SnapshotFilter{From: in.From, To: in.To, After: in.After, Limit: in.Limit}}))
		})
	huma.Register(a, op("GET", "/snapshots/{id}", "getSnapshot", "One snapshot with reasons, remarks and space"),
		func(ctx context.Context, in *identified) (*body[api.Snapshot], error) {
			one, err := s.site.Recovery.Snapshot(in.ID)
			if err == nil && !seesNames(ctx) {
				one.Remarks = nil // their count stays
			}
			return answerAt(one, err)
		})
	huma.Register(a, op("DELETE", "/snapshots/{id}", "removeSnapshot", "Send a snapshot into grace"),
		func(ctx context.Context, in *identified) (*body[api.Snapshot], error) {
			return answerAt(s.site.Rules.RemoveSnapshot(in.ID))
		})
	huma.Register(a, op("POST", "/snapshots/remove-at-once", "removeAtOnce",
		"Remove snapshots for good, without grace, or tell what would go"),
		func(ctx context.Context, in *body[api.RemoveAtOnce]) (*body[api.RemovedAtOnce], error) {
			return answerAt(s.site.Rules.RemoveAtOnce(in.Body, caller(ctx)))
		})
	huma.Register(a, op("POST", "/snapshots/restore", "restoreSnapshots",
		"Bring each of several snapshots into a directory of its own", 202),
		func(ctx context.Context, in *body[api.RestoreMany]) (*body[[]api.Run], error) {
			return answer(s.site.Recovery.RestoreMany(ctx, in.Body, caller(ctx)))
		})
	huma.Register(a, op("PATCH", "/snapshots/{id}", "changeSnapshot",
		"Change a snapshot's note, labels or own end, here and wherever it is carried"),
		func(ctx context.Context, in *struct {
			ID   string `path:"id"`
			Body api.SnapshotChange
		}) (*body[api.Snapshot], error) {
			return answerAt(s.site.Rules.ChangeSnapshot(in.ID, in.Body))
		})
	huma.Register(a, op("POST", "/snapshots/{id}/keep", "keepSnapshot", "Keep a snapshot whatever the rules say"),
		func(ctx context.Context, in *struct {
			ID   string `path:"id"`
			Body api.KeepAsk
		}) (*body[api.Snapshot], error) {
			return answerAt(s.site.Rules.KeepSnapshot(in.ID, in.Body))
		})
	huma.Register(a, op("POST", "/snapshots/{id}/let-go", "letGoSnapshot", "Take a keep mark back"),
		func(ctx context.Context, in *identified) (*body[api.Snapshot], error) {
			return answerAt(s.site.Rules.LetGoSnapshot(in.ID))
		})
	huma.Register(a, op("POST", "/snapshots/{id}/recall", "recallSnapshot", "Take a snapshot back out of grace"),
		func(ctx context.Context, in *identified) (*body[api.Snapshot], error) {
			return answerAt(s.site.Rules.RecallSnapshot(in.ID))
		})
	huma.Register(a, op("POST", "/prune", "prune", "Apply the rules now", 202), func(ctx context.Context,
		in *body[api.PruneAsk]) (*body[api.Run], error) {
		return answer(s.site.Rules.Prune(in.Body.Volume, caller(ctx)))
	})
	huma.Register(a, op("POST", "/prune/plan", "planPrune", "What the rules would let go now; changes nothing"),
		func(ctx context.Context, in *body[api.PruneAsk]) (*body[api.PruneResult], error) {
			return answerAt(s.site.Rules.PlanPrune(ctx, in.Body.Volume))
		})
	huma.Register(a, op("POST", "/restores", "restore", "Bring files or a volume back", 202), func(ctx context.Context,
		in *body[api.RestoreAsk]) (*body[api.Run], error) {
		return answer(s.eyes(ctx).Restore(ctx, in.Body, caller(ctx)))
	})
	huma.Register(a, op("POST", "/restores/plan", "planRestore", "What a restore would do; changes nothing"),
		func(ctx context.Context, in *body[api.RestoreAsk]) (*body[api.RestoreResult], error) {
			return answerAt(s.eyes(ctx).PlanRestore(ctx, in.Body))
		})
}

func (s *server) registerPolicies(a huma.API) {
	huma.Register(a, op("GET", "/hooks", "listHooks", "The hooks that site.yaml defines"), func(ctx context.Context,
		_ *none) (*body[[]api.Hook], error) {
		return &body[[]api.Hook]{s.site.Capture.Hooks()}, nil
	})
	huma.Register(a, op("GET", "/groups", "listGroups", "Volumes that are snapshotted as one set"),
		func(ctx context.Context, _ *none) (*body[[]api.Group], error) {
			return answer(s.site.Capture.Groups())
		})
	huma.Register(a, op("GET", "/groups/{name}", "getGroup", "One group with its newest set"), func(ctx context.Context,
		in *named) (*body[api.Group], error) {
		return answerAt(s.site.Capture.Group(in.Name))
	})
	huma.Register(a, op("PUT", "/groups/{name}", "putGroup", "Make or change a group"), func(ctx context.Context,
		in *struct {
			Name string `path:"name"`
			Body api.GroupPut
		}) (*body[api.Group], error) {
		return answerAt(s.site.Capture.PutGroup(in.Name, in.Body))
	})
	huma.Register(a, op("PATCH", "/groups/{name}", "editGroup", "Change what is named of a group, and nothing else"),
		func(ctx context.Context, in *struct {
			Name string `path:"name"`
			Body api.GroupEdit
		}) (*body[api.Group], error) {
			return answerAt(s.site.Capture.EditGroup(in.Name, in.Body))
		})
	huma.Register(a, op("DELETE", "/groups/{name}", "removeGroup", "Dissolve a group"), func(ctx context.Context,
		in *named) (*said, error) {
		return sentence(s.site.Capture.RemoveGroup(in.Name))
	})
	huma.Register(a, op("GET", "/policies", "listPolicies", "All policies"), func(ctx context.Context,
		_ *none) (*body[[]api.Policy], error) {
		return answer(s.site.Rules.Policies())
	})
	huma.Register(a, op("PUT", "/policies", "putPolicy", "Store a policy document"), func(ctx context.Context,
		in *body[api.PolicyPut]) (*body[api.Policy], error) {
		return answerAt(s.site.Rules.PutPolicy(in.Body.Body, caller(ctx), in.Body.Accept))
	})
	huma.Register(a, op("POST", "/policies/check", "checkPolicy",
		"What is wrong with a document, or what it would let go"), func(ctx context.Context, in *body[api.PolicyPut]) (
		*body[api.PolicyCheck], error) {
		return answerAt(s.site.Rules.CheckPolicy(ctx, in.Body.Body))
	})
	huma.Register(a, op("POST", "/policies/diff", "diffPolicy", "A document compared with the stored one of its name"),
		func(ctx context.Context, in *body[api.PolicyPut]) (*body[api.PolicyDiff], error) {
			return answerAt(s.site.Rules.DiffPolicy(ctx, in.Body.Body))
		})
	huma.Register(a, op("POST", "/policies/preview", "previewPolicy", "What a policy would leave after some days"),
		func(ctx context.Context, in *body[api.PreviewAsk]) (*body[api.Preview], error) {
			return answerAt(s.site.Rules.PreviewPolicy(ctx, in.Body))
		})
	huma.Register(a, op("GET", "/policies/{name}/versions", "listPolicyVersions",
		"All versions of a policy, newest first"), func(ctx context.Context, in *named) (*body[[]api.PolicyVersion], error) {
		return answer(s.site.Rules.PolicyHistory(in.Name))
	})
	huma.Register(a, op("GET", "/reports/objectives", "reportObjectives", "How well objectives were met"),
		func(ctx context.Context, in *struct {
			Since time.Time `query:"since" doc:"30 days ago when not given"`
		}) (*body[api.Objectives], error) {
			return answerAt(s.site.Overview.Objectives(ctx, in.Since))
		})
	huma.Register(a, op("GET", "/policies/{name}", "getPolicy", "One policy"), func(ctx context.Context,
		in *named) (*body[api.Policy], error) {
		return answerAt(s.site.Rules.Policy(in.Name))
	})
	huma.Register(a, op("DELETE", "/policies/{name}", "removePolicy", "Remove a policy"), func(ctx context.Context,
		in *struct {
			Name   string `path:"name"`
			Accept bool   `query:"accept" doc:"remove it although snapshots expire by it"`
		}) (*said, error) {
		return sentence(s.site.Rules.RemovePolicy(in.Name, caller(ctx), in.Accept))
	})
}

func (s *server) registerStore(a huma.API) {
	huma.Register(a, op("GET", "/store", "getUsage", "What the store holds"), func(ctx context.Context,
		_ *none) (*body[api.Usage], error) {
		return answerAt(s.site.Upkeep.Usage())
	})
	huma.Register(a, op("GET", "/caps", "listCaps", "Upper bounds, with what there is"), func(ctx context.Context,
		_ *none) (*body[[]api.Cap], error) {
		return answer(s.site.Rules.Caps())
	})
	huma.Register(a, op("PUT", "/caps", "putCap", "Set an upper bound"), func(ctx context.Context, in *body[api.CapPut]) (
		*body[api.Cap], error) {
		return answerAt(s.site.Rules.PutCap(in.Body))
	})
	huma.Register(a, op("DELETE", "/caps/{scope}/{name}", "removeCap", "Take an upper bound away"),
		func(ctx context.Context, in *struct {
			Scope string `path:"scope"`
			Name  string `path:"name"`
		}) (*said, error) {
			return sentence(s.site.Rules.RemoveCap(in.Scope, in.Name))
		})
	huma.Register(a, op("POST", "/store/sweep", "sweep", "Give back what no snapshot needs", 202),
		func(ctx context.Context, in *body[api.SweepAsk]) (*body[api.Run], error) {
			return answer(s.site.Upkeep.Sweep(in.Body.Settle, caller(ctx)))
		})
	huma.Register(a, op("POST", "/store/verify", "verify", "Read everything and recompute every identity", 202),
		func(ctx context.Context, _ *none) (*body[api.Run], error) {
			return answer(s.site.Upkeep.Verify(caller(ctx)))
		})
	huma.Register(a, op("POST", "/store/rebuild-catalogue", "rebuildCatalogue",
		"Make the records of volumes and snapshots anew from the store"), func(ctx context.Context, _ *none) (*said, error) {
		n, err := s.site.Upkeep.RebuildCatalogue()
		return sentence(strconv.Itoa(n)+" snapshots were taken up from the store. Nothing is removed until you release it "+
			"with: candid store release", err)
	})
	huma.Register(a, op("POST", "/store/release", "releaseRemoval", "Let removal go on after a rebuild"),
		func(ctx context.Context, _ *none) (*said, error) {
			return sentence("Removal goes on: pruning and sweeping follow the rules again.", s.site.Upkeep.Release())
		})
	huma.Register(a, op("POST", "/store/catalogue-copies", "copyCatalogue", "Copy the catalogue while it is in use", 201),
		func(ctx context.Context, _ *none) (*body[api.CatalogueCopy], error) {
			return answerAt(s.site.Upkeep.CopyCatalogue(ctx))
		})
	huma.Register(a, op("GET", "/store/catalogue-copies", "listCatalogueCopies", "Copies of the catalogue, newest first"),
		func(ctx context.Context, _ *none) (*body[[]api.CatalogueCopy], error) {
			return answer(s.site.Upkeep.CatalogueCopies())
		})
	huma.Register(a, op("GET", "/tokens", "listTokens", "Tokens, without their texts"), func(ctx context.Context,
		_ *none) (*body[[]api.Token], error) {
		return answer(s.site.Access.Tokens())
	})
	huma.Register(a, op("POST", "/tokens", "addToken", "Make a token; its text is shown this once", 201),
		func(ctx context.Context, in *body[api.TokenAdd]) (*secretBody[api.Token], error) {
			return answerSecret(s.site.Access.NewToken(in.Body))
		})
	huma.Register(a, op("POST", "/tokens/link", "addSignInLink", "Make an address of the console that signs in once, soon",
		201), func(ctx context.Context, _ *none) (*secretBody[api.SignInLink], error) {
		l, err := s.site.Access.Link(callerIn(ctx), s.site.Console)
		if err != nil {
			return nil, fail(err)
		}
		return answerSecret(*l, nil)
	})
	huma.Register(a, op("DELETE", "/tokens/{name}", "removeToken", "Make a token useless"), func(ctx context.Context,
		in *named) (*said, error) {
		return sentence("The token "+in.Name+" lets nobody in any more.", s.site.Access.RemoveToken(in.Name))
	})
}
