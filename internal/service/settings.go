package service

import (
	"time"

	"yellowfence.example/yfence/core/approve"
	"yellowfence.example/yfence/internal/store"
)

// Settings are what may change while the service runs, see Set.
type Settings struct {
	MaxPause       time.Duration // a host's filter may be paused for this long; a day if it is 0
	WholeStrangers bool          // addresses of strangers who were seen are kept whole, not as prefixes
	Stay           bool          // hosts do not follow by themselves what they or clouds tell
	SignIn         *SignIn       // how people sign in through an identity provider; nil: they do not
	Destinations   []Destination // where events are delivered to
	Approvals      approve.Rules // which changes need whose approval; none need any where there is none
	Keep           store.Keeping // for how long what is over is kept; store.DefaultKeeping where it is 0
}

// completed is the settings with what is usual for what is not said.
func (o Settings) completed() Settings {
	if o.Keep.Reports == 0 {
		o.Keep.Reports = store.DefaultKeeping.Reports
	}
	if o.Keep.Daily == 0 {
		o.Keep.Daily = store.DefaultKeeping.Daily
	}
	if o.Keep.Done == 0 {
		o.Keep.Done = store.DefaultKeeping.Done
	}
	if o.MaxPause == 0 {
		o.MaxPause = 24 * time.Hour
	}
	return o
}

// current are settings, and a channel that is closed when there are others.
type current struct {
	Settings
	over chan struct{}
}

// set are the settings of now.
func (s *Service) set() *current { return s.settings.Load() }

// Set changes the settings. What is at work goes on with those that it began with. Whether people
// sign in at all stays as it was at the start: another way to sign in counts, none does not.
func (s *Service) Set(to Settings) {
	was := s.settings.Load()
	if was != nil && (was.SignIn == nil) != (to.SignIn == nil) {
		to.SignIn = was.SignIn
	}
	s.settings.Store(&current{to.completed(), make(chan struct{})})
	var told []store.Destination
	for _, d := range to.Destinations {
		told = append(told, d.Destination)
	}
	if s.Store != nil {
		s.Store.Tell(told)
	}
	if was != nil {
		s.identity.forget()
		close(was.over)
	}
}
