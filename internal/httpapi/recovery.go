package httpapi

import (
	"context"
	"fmt"
	"io"
	"mime"
	"net/http"
	"path"
	"strings"
	"time"

	"candidharbor/api"
	"candidharbor/internal/recovery"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
)

func (s *server) registerRecovery(a huma.API) {
	huma.Register(a, op("GET", "/volumes/{name}/find", "find", "Look for names in all snapshots of a volume"),
		func(ctx context.Context, in *struct {
			Name string `path:"name"`
			api.FindAsk
		}) (*body[api.Find], error) {
			return answerAt(s.eyes(ctx).Find(ctx, in.Name, in.FindAsk))
		})
	huma.Register(a, op("GET", "/find", "findAll", "Look for names in the snapshots of all volumes"),
		func(ctx context.Context, in *struct{ api.FindAllAsk }) (*body[api.FindAll], error) {
			return answerAt(s.eyes(ctx).FindAll(ctx, in.FindAllAsk))
		})
	huma.Register(a, op("GET", "/find/reading", "listNamesRead",
		"Of which volumes the names are being read for a search, and how far that is"),
		func(ctx context.Context, _ *none) (*body[[]api.NamesRead], error) {
			return answer(s.eyes(ctx).NamesRead())
		})
	huma.Register(a, op("GET", "/paths", "locate", "In which volumes a path of the host lies, the likeliest first"),
		func(ctx context.Context, in *struct {
			Path string `query:"path" required:"true"`
		}) (*body[[]api.Located], error) {
			return answer(s.eyes(ctx).Locate(in.Path))
		})
	huma.Register(a, op("GET", "/volumes/{name}/as-of", "asOf", "What stands for a moment of a volume, at each site"),
		func(ctx context.Context, in *struct {
			Name string `path:"name"`
			At   string `query:"at" doc:"a moment (RFC 3339), or latest"`
		}) (*body[api.AsOf], error) {
			return answerAt(s.site.Recovery.AsOf(ctx, in.Name, in.At))
		})
	huma.Register(a, op("GET", "/recovery/order", "recoveryOrder",
		"In which order other sites are asked for what is not here"), func(context.Context, *none) (*body[api.RecoveryOrder],
		error) {
		sites, err := s.site.Recovery.RecoveryOrder()
		return answer(api.RecoveryOrder{Sites: sites}, err)
	})
	huma.Register(a, op("PUT", "/recovery/order", "setRecoveryOrder", "Set that order; sites not named come after"),
		func(_ context.Context, in *body[api.RecoveryOrder]) (*body[api.RecoveryOrder], error) {
			sites, err := s.site.Recovery.SetRecoveryOrder(in.Body.Sites)
			return answer(api.RecoveryOrder{Sites: sites}, err)
		})
	huma.Register(a, op("GET", "/volumes/{name}/versions", "listVersions",
		"What a path was over time: real changes alone"), func(ctx context.Context, in *struct {
		Name  string `path:"name"`
		Path  string `query:"path"`
		Sites bool   `query:"sites" doc:"ask other sites too"`
	}) (*body[api.Versions], error) {
		if in.Sites && callerIn(ctx).Owner == nil {
			return answerAt(s.site.Recovery.VersionsEverywhere(ctx, in.Name, in.Path))
		}
		return answerAt(s.eyes(ctx).Versions(in.Name, in.Path))
	})
	huma.Register(a, op("GET", "/volumes/{name}/comparison", "compare",
		"What differs between two moments, or a moment and now, of one volume or of two",
	), func(ctx context.Context, in *struct {
		Name string `path:"name"`
		Path string `query:"path" doc:"compare only what is below"`
		From string `query:"from" required:"true" doc:"RFC 3339, latest, or a snapshot's id"`
		Site string `query:"fromSite" doc:"whose copy the first side is; empty: what is here"`
		To   string `query:"to" default:"now" doc:"the same, or now"`
		With string `query:"with" doc:"the volume that the second side is of; empty: the same"`
	}) (*body[api.Comparison], error) {
		return answerAt(s.site.Recovery.Compare(ctx, recovery.CompareAsk{Volume: in.Name, Path: in.Path, From: in.From,
			FromSite: in.Site, To: in.To, With: in.With}))
	})
	huma.Register(a, op("GET", "/volumes/{name}/text-difference", "compareText",
		"What differs between two versions of a text file, line by line"), func(ctx context.Context, in *struct {
		Name string `path:"name"`
		Path string `query:"path" required:"true"`
		From string `query:"from" required:"true" doc:"RFC 3339, latest, or a snapshot's id"`
		To   string `query:"to" required:"true" doc:"the same"`
	}) (*body[api.TextDifference], error) {
		return answerAt(s.site.Recovery.TextDifference(in.Name, in.Path, in.From, in.To))
	})
	huma.Register(a, op("POST", "/runs/{id}/undo", "undoRun", "Take back what a restore in place did", 202),
		func(ctx context.Context, in *struct {
			ID int64 `path:"id"`
		}) (*body[api.Run], error) {
			return answer(s.eyes(ctx).Undo(in.ID, caller(ctx)))
		})
	huma.Register(a, op("GET", "/recipes", "listRecipes", "Saved restores"), func(ctx context.Context,
		_ *none) (*body[[]api.Recipe], error) {
		all, err := s.site.Recovery.Recipes()
		for i := range all {
			unnamedRecipe(ctx, &all[i])
		}
		return answer(all, err)
	})
	huma.Register(a, op("GET", "/recipes/{name}", "getRecipe", "One saved restore with its last runs"),
		func(ctx context.Context, in *named) (*body[api.Recipe], error) {
			one, err := s.site.Recovery.Recipe(in.Name)
			if err == nil {
				unnamedRecipe(ctx, one)
			}
			return answerAt(one, err)
		})
	huma.Register(a, op("POST", "/recipes/{name}", "saveRecipe", "Save a restore under a name", 201),
		func(ctx context.Context, in *recipeIn) (*body[api.Recipe], error) {
			return answerAt(s.site.Recovery.PutRecipe(ctx, in.Name, in.Body, false, caller(ctx)))
		})
	huma.Register(a, op("PUT", "/recipes/{name}", "editRecipe", "Change a saved restore"), func(ctx context.Context,
		in *recipeIn) (*body[api.Recipe], error) {
		return answerAt(s.site.Recovery.PutRecipe(ctx, in.Name, in.Body, true, caller(ctx)))
	})
	huma.Register(a, op("POST", "/recipes/{name}/runs", "runRecipe", "Carry a saved restore out now", 202),
		func(ctx context.Context, in *named) (*body[api.Run], error) {
			return answer(s.site.Recovery.RunRecipe(ctx, in.Name))
		})
	huma.Register(a, op("DELETE", "/recipes/{name}", "removeRecipe", "Forget a saved restore; what it brought back stays"),
		func(_ context.Context, in *named) (*said, error) {
			return sentence(s.site.Recovery.RemoveRecipe(in.Name))
		})
	huma.Register(a, op("GET", "/trials", "listTrials", "How restores are tried, and the last trial of each volume, "+
		"here and elsewhere"), func(ctx context.Context, _ *none) (*body[api.Trials], error) {
		return answerAt(s.site.Recovery.RestoreTests(ctx))
	})
	huma.Register(a, op("PUT", "/trials", "putTrials", "Say when restores are tried"), func(ctx context.Context,
		in *body[api.TrialsPut]) (*body[api.Trials], error) {
		return answerAt(s.site.Recovery.PutRestoreTests(ctx, in.Body))
	})
	huma.Register(a, op("POST", "/trials", "tryRestore", "Try a restore of a volume now, or of all", 202),
		func(ctx context.Context, in *body[api.TrialAsk]) (*body[[]api.Run], error) {
			return answer(s.site.Recovery.TestRestore(in.Body.Volume, caller(ctx)))
		})
	huma.Register(a, op("GET", "/clones", "listClones", "Writable copies of snapshots on this host"),
		func(context.Context, *none) (*body[[]api.Clone], error) {
			return answer(s.site.Clones.Clones())
		})
	huma.Register(a, op("POST", "/clones", "makeClone", "Make a writable copy of a snapshot on this host", 201),
		func(ctx context.Context, in *body[api.CloneAsk]) (*body[api.Clone], error) {
			return answerAt(s.site.Clones.MakeClone(in.Body, caller(ctx)))
		})
	huma.Register(a, op("POST", "/clones/many", "makeClones", "Make several writable copies of one snapshot", 201),
		func(ctx context.Context, in *body[api.ClonesAsk]) (*body[[]api.Clone], error) {
			return answer(s.site.Clones.MakeClones(in.Body, caller(ctx)))
		})
	huma.Register(a, op("GET", "/clones/{name}", "getClone", "One clone"),
		func(_ context.Context, in *named) (*body[api.Clone], error) {
			return answerAt(s.site.Clones.Clone(in.Name))
		})
	huma.Register(a, op("DELETE", "/clones/{name}", "discardClone",
		"Take a clone away with everything that was changed in it"), func(_ context.Context, in *struct {
		Name   string `path:"name"`
		Anyway bool   `query:"anyway" doc:"although someone is in it"`
	}) (*said, error) {
		return sentence(s.site.Clones.DiscardClone(in.Name, in.Anyway))
	})
	huma.Register(a, op("POST", "/clones/{name}/snapshots", "snapshotClone",
		"Take a snapshot of a clone, which becomes a volume with the first", 202), func(ctx context.Context, in *struct {
		Name string `path:"name"`
		Body api.SnapshotTake
	}) (*body[api.Run], error) {
		return answer(s.site.Clones.SnapshotClone(in.Name, in.Body, caller(ctx)))
	})
	huma.Register(a, op("POST", "/clones/{name}/volume", "makeCloneVolume",
		"Make a clone a volume of its own in a directory of its own", 202), func(ctx context.Context, in *struct {
		Name string `path:"name"`
		Body api.CloneToVolume
	}) (*body[api.Run], error) {
		return answer(s.site.Clones.CloneToVolume(in.Name, in.Body, caller(ctx)))
	})
	huma.Register(a, op("POST", "/group-restores", "restoreGroup",
		"Bring all volumes of a group back to one common instant", 202), func(ctx context.Context,
		in *body[api.GroupRestoreAsk]) (*body[api.Run], error) {
		return answer(s.site.Recovery.RestoreGroup(ctx, in.Body, caller(ctx)))
	})
	huma.Register(a, op("POST", "/group-restores/plan", "planGroupRestore", "What that would do; changes nothing"),
		func(ctx context.Context, in *body[api.GroupRestoreAsk]) (*body[api.GroupRestore], error) {
			return answerAt(s.site.Recovery.PlanGroupRestore(ctx, in.Body))
		})
	huma.Register(a, op("GET", "/volumes/{name}/found", "listFound",
		"What the filesystem or another tool left of a volume"), func(_ context.Context, in *named) (*body[api.FoundList],
		error) {
		return answerAt(s.site.Recovery.External(in.Name))
	})
	huma.Register(a, op("PUT", "/volumes/{name}/found", "setFound", "Say where others leave point-in-time directories "+
		"of a volume"), func(_ context.Context, in *struct {
		Name string `path:"name"`
		Body api.FoundPut
	}) (*body[api.FoundList], error) {
		return answerAt(s.site.Recovery.SetExternal(in.Name, in.Body))
	})
	huma.Register(a, op("GET", "/volumes/{name}/found/browse", "browseFound",
		"A directory of what others left, as it is on the disk"), func(_ context.Context, in *struct {
		Name  string `path:"name"`
		Found string `query:"found" required:"true"`
		Path  string `query:"path"`
	}) (*body[api.FoundBrowse], error) {
		return answerAt(s.site.Recovery.BrowseExternal(in.Name, in.Found, in.Path))
	})
	huma.Register(a, op("POST", "/volumes/{name}/found/take", "takeFound",
		"Take what others left into the volume's history, with its own time", 202), func(ctx context.Context, in *struct {
		Name string `path:"name"`
		Body api.FoundTake
	}) (*body[api.Run], error) {
		return answer(s.site.Recovery.TakeExternal(in.Name, in.Body.Names, caller(ctx)))
	})
	huma.Register(a, op("GET", "/mounts", "listMounts", "Volumes whose snapshots are shown as a filesystem on this host"),
		func(context.Context, *none) (*body[[]api.Mount], error) {
			return &body[[]api.Mount]{s.site.Clones.Mounts()}, nil
		})
	huma.Register(a, op("POST", "/mounts", "addMount", "Show a volume's snapshots as a filesystem on this host", 201),
		func(ctx context.Context, in *body[api.MountAsk]) (*body[api.Mount], error) {
			return answerAt(s.site.Clones.Mount(in.Body, caller(ctx)))
		})
	huma.Register(a, op("DELETE", "/mounts", "endMount", "Take such a filesystem away"),
		func(_ context.Context, in *struct {
			Dir    string `query:"dir" required:"true"`
			Anyway bool   `query:"anyway" doc:"although someone is in it: it goes when they have left"`
		}) (*said, error) {
			return sentence(s.site.Clones.EndMount(in.Dir, in.Anyway))
		})
}

type recipeIn struct {
	Name string `path:"name"`
	Body api.RecipePut
}

// archive downloads paths of a volume as of a moment as an archive.
func (s *server) archive(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	form := q.Get("form")
	if form == "" {
		form = "tar"
	}
	begun := false
	err := s.eyes(r.Context()).Archive(r.Context(), chi.URLParam(r, "name"), q.Get("at"), form, q["path"],
		func(name string) {
			begun = true
			w.Header().Set("Content-Type", map[string]string{"tar": "application/x-tar", "zip": "application/zip"}[form])
			w.Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", name))
		}, w)
	if err == nil {
		return
	}
	if begun { // too late for a status: break the transfer so that nobody takes it for whole
		panic(http.ErrAbortHandler)
	}
	problem(w, statusOf(err), err.Error())
}

// pictures are the kinds of files that are shown where they are asked for with show.
var pictures = map[string]string{".png": "image/png", ".jpg": "image/jpeg", ".jpeg": "image/jpeg", ".gif": "image/gif",
	".webp": "image/webp"}

// file downloads one file, or a part of it (RFC 9110 §14).
func (s *server) file(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	f, err := s.eyes(r.Context()).OpenFile(chi.URLParam(r, "name"), q.Get("at"), q.Get("path"))
	if err != nil {
		problem(w, statusOf(err), err.Error())
		return
	}
	defer f.Close()
	name := path.Base(q.Get("path"))
	h := w.Header()
	h.Set("ETag", f.Tag)
	h.Set("Content-Type", "application/octet-stream")
	h.Set("Content-Security-Policy", "default-src 'none'; sandbox")
	how := "attachment"
	if kind, ok := pictures[strings.ToLower(path.Ext(name))]; ok && q.Get("show") != "" {
		h.Set("Content-Type", kind)
		how = "inline"
	}
	h.Set("Content-Disposition", mime.FormatMediaType(how, map[string]string{"filename": name}))
	http.ServeContent(w, r, "", time.Unix(0, f.Entry.MTime), io.NewSectionReader(f, 0, f.Size()))
}
