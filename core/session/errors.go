package session

import (
	"context"
	"errors"

	"wetland/core/phrase"
)

// ErrTooLong is the cause when an update is stopped because of its length.
var ErrTooLong = errors.New("the update took longer than [update] time_limit allows")

// StoppedWords says that a run ended before it changed anything, and by whom.
func StoppedWords(ctx context.Context) string {
	switch {
	case ctx.Err() == nil:
		return "Nothing on the site was changed."
	case errors.Is(context.Cause(ctx), ErrTooLong):
		return phrase.Capital(ErrTooLong.Error()) + ". Nothing on the site was changed."
	}
	return "By Ctrl-C, before anything was changed."
}

// ErrDeclined says that a person answered no.
var ErrDeclined = errors.New("not done, as you answered; nothing was changed")

// ErrAbandoned says that a person stopped even the going back.
var ErrAbandoned = errors.New("stopped while going back: the site may stand at either version")
