package adopt

import (
	"context"

	"wetland/core/host"
	"wetland/core/preflight"
	"wetland/core/sshhost"
)

// enter enters the account of a site on another machine.
func (a *adoption) enter(ctx context.Context, on host.Host) error {
	account, ok := on.(*sshhost.Host)
	if !ok {
		return nil
	}
	a.o.Report.Begin("entering host", 0, "")
	about, err := account.Enter(ctx)
	if err != nil {
		return err
	}
	for _, left := range about.NotUsed {
		a.doubt("of your settings of ssh, this is not used: "+left, "It matters only if it concerns this host.")
	}
	if !on.Abilities().Run {
		return nil // what that means is told with what its machine offers
	}
	is := "there already"
	if about.Put != "" {
		is = "put at " + about.Put
	}
	a.result.Offers = append(a.result.Offers, preflight.Offer{What: "helper", Is: is, Means: "all promises are kept as on your own machine", Good: true})
	return nil
}
