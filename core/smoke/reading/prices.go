package reading

import (
	"regexp"
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
