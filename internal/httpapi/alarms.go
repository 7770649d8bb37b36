package httpapi

import (
	"context"

	"candidharbor/api"

	"github.com/danielgtaylor/huma/v2"
)

func (s *server) registerAlarms(a huma.API) {
	huma.Register(a, op("GET", "/alarms", "listAlarms", "What needs a person, newest first"), func(ctx context.Context,
		in *struct {
			All    bool  `query:"all" doc:"with those that have ended"`
			Before int64 `query:"before" doc:"cursor, with all: the last id seen"`
		}) (*body[api.AlarmList], error) {
		return answerAt(s.site.Overview.Alarms(in.All, in.Before))
	})
	huma.Register(a, op("POST", "/alarms/test", "testAlarm", "Send a message over every channel"),
		func(ctx context.Context, _ *none) (*said, error) {
			return sentence(s.site.Overview.TestAlarm(ctx, caller(ctx)))
		})
	huma.Register(a, op("POST", "/alarms/{id}/mute", "muteAlarm", "Keep an alarm from being sent out for a while"),
		func(ctx context.Context, in *struct {
			ID   int64 `path:"id"`
			Body api.AlarmMute
		}) (*body[api.Alarm], error) {
			return answerAt(s.site.Overview.MuteAlarm(in.ID, in.Body.Until))
		})
}
