package smoke

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
)

// Numbers move by themselves, and are not compared. An amount of money that was the same in
// both looks is another matter: it does not change in the minute of an update.

var (
	currency = `(?:[$£€¥₹₽₺₴₪₩฿]|\b(?:USD|EUR|GBP|CHF|SEK|NOK|DKK|PLN|CZK|JPY|AUD|CAD)\b|\b(?:kr|zł|Kč|Ft|lei)\b)`
	amount   = `\d(?:[\d.,'’ \x{a0}\x{202f}]*\d)?`
	priced   = regexp.MustCompile(`(?i)` + currency + `\s*(` + amount + `)|(` + amount + `)\s*` + currency)
)

// mostPrices bounds how many amounts of a page are kept.
const mostPrices = 200

// readPrices lists the amounts of money in a text, as plain numbers.
func readPrices(text string) []string {
	var found []string
	for _, match := range priced.FindAllStringSubmatch(text, mostPrices) {
		found = append(found, plainNumber(match[1]+match[2]))
	}
	return found
}

// plainNumber writes a number as programs do: the last divider is a decimal point if two
// digits or one follow it.
func plainNumber(written string) string {
	digits, decimals, last := "", 0, strings.LastIndexAny(written, ".,")
	for i, r := range written {
		if r >= '0' && r <= '9' {
			digits += string(r)
			if last >= 0 && i > last {
				decimals++
			}
		}
	}
	if decimals == 0 || decimals > 2 {
		return digits
	}
	return digits[:len(digits)-decimals] + "." + digits[len(digits)-decimals:]
}

// fewPrices is the number of amounts from which on it is no chance what becomes of all of them.
const fewPrices = 3

func losePrices(found *collector, was, now Facts) {
	lost := minus(was.Prices, now.Prices)
	switch {
	case len(lost) == 0:
	case len(now.Prices) == 0:
		found.add(Doubtful, "amounts", fmt.Sprintf("%s of money %s gone", plural(len(was.Prices), "amount"), areOrIs(len(was.Prices))), strings.Join(lost[:min(4, len(lost))], ", "))
	case len(now.Prices) < len(was.Prices) && len(minus(now.Prices, was.Prices)) == 0:
		found.add(Doubtful, "amounts", fmt.Sprintf("%d of %d amounts of money %s gone", len(lost), len(was.Prices), areOrIs(len(lost))), strings.Join(lost[:min(4, len(lost))], ", "))
	case len(was.Prices) < fewPrices:
	case distinct(was.Prices) >= fewPrices && distinct(now.Prices) == 1:
		found.add(Doubtful, "amounts", fmt.Sprintf("all amounts of money are %s", now.Prices[0]), strings.Join(lost[:min(4, len(lost))], ", ")+" before")
	case len(lost) == len(was.Prices) && len(was.Prices) == len(now.Prices):
		if factor := commonFactor(was.Prices, now.Prices); factor != 0 {
			found.add(Doubtful, "amounts", fmt.Sprintf("all amounts of money are %s times what they were", strconv.FormatFloat(factor, 'g', 4, 64)), now.Prices[0]+", was "+was.Prices[0])
		}
	case 2*len(now.Prices) < len(was.Prices):
		found.add(Doubtful, "amounts", fmt.Sprintf("%d of %d amounts of money are gone", len(lost), len(was.Prices)), strings.Join(lost[:min(4, len(lost))], ", "))
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
