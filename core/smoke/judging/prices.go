package judging

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"wetland/core/phrase"
	"wetland/core/smoke"
)

// fewPrices is the number of amounts from which on it is no chance what becomes of all of them.
const fewPrices = 3

func losePrices(found *Collector, was, now smoke.Facts) {
	lost := minus(was.Prices, now.Prices)
	switch {
	case len(lost) == 0:
	case len(now.Prices) == 0:
		found.add(smoke.Doubtful, "amounts", fmt.Sprintf("%s of money %s gone", phrase.Plural(len(was.Prices), "amount"), areOrIs(len(was.Prices))), strings.Join(lost[:min(4, len(lost))], ", "))
	case len(now.Prices) < len(was.Prices) && len(minus(now.Prices, was.Prices)) == 0:
		found.add(smoke.Doubtful, "amounts", fmt.Sprintf("%d of %d amounts of money %s gone", len(lost), len(was.Prices), areOrIs(len(lost))), strings.Join(lost[:min(4, len(lost))], ", "))
	case len(was.Prices) < fewPrices:
	case distinct(was.Prices) >= fewPrices && distinct(now.Prices) == 1:
		found.add(smoke.Doubtful, "amounts", fmt.Sprintf("all amounts of money are %s", now.Prices[0]), strings.Join(lost[:min(4, len(lost))], ", ")+" before")
	case len(lost) == len(was.Prices) && len(was.Prices) == len(now.Prices):
		if factor := commonFactor(was.Prices, now.Prices); factor != 0 {
			found.add(smoke.Doubtful, "amounts", fmt.Sprintf("all amounts of money are %s times what they were", strconv.FormatFloat(factor, 'g', 4, 64)), now.Prices[0]+", was "+was.Prices[0])
		}
	case 2*len(now.Prices) < len(was.Prices):
		found.add(smoke.Doubtful, "amounts", fmt.Sprintf("%d of %d amounts of money are gone", len(lost), len(was.Prices)), strings.Join(lost[:min(4, len(lost))], ", "))
	}
}

func distinct(list []string) int { return len(counted(list)) }

// commonFactor is by how much all numbers changed alike; 0: they did not.
func commonFactor(was, now []string) float64 {
	factor := 0.0
	for i := range was {
		before, err1 := strconv.ParseFloat(was[i], 64)
		after, err2 := strconv.ParseFloat(now[i], 64)
		if err1 != nil || err2 != nil || before == 0 || after == 0 {
			return 0
		}
		if factor == 0 {
			factor = after / before
		}
		if math.Abs(after/before-factor) > 0.01*factor {
			return 0
		}
	}
	return factor
}
