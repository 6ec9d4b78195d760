package screen

import (
	"slices"
	"strings"

	"wetland/core/advice"
	"wetland/core/phrase"
)

// commandLines say how the program is told to carry out what is advised. {1} and so on are what it is
// done to, {...} all of that but what is named by its number.
var commandLines = map[advice.Operation]string{
	advice.Accept:           "wetland accept {1} --because WHY",
	advice.AddPage:          "wetland pages add PATH",
	advice.AdoptSite:        "wetland adopt {1} --address URL",
	advice.ExaminePicked:    "wetland examine {...} --pick {-1}",
	advice.ExamineDiff:      "wetland examine {1} --diff {2}",
	advice.ListPages:        "wetland pages",
	advice.ListShelf:        "wetland shelf",
	advice.ListSnapshots:    "wetland history",
	advice.LookAgain:        "wetland smoke",
	advice.Moved:            "wetland moved NEW-ROOT",
	advice.MovedSurely:      "wetland moved {1} --sure",
	advice.RecordPages:      "wetland smoke --learn",
	advice.Recover:          "wetland recover",
	advice.RecoverBack:      "wetland recover --undecided back",
	advice.RecoverKeep:      "wetland recover --undecided keep",
	advice.Rehearse:         "wetland rehearse {...}",
	advice.Restore:          "wetland restore {1}",
	advice.RestoreElsewhere: "wetland restore {1} --into FOLDER",
	advice.RestoreForeign:   "wetland restore {1} --allow-elsewhere",
	advice.RestoreTables:    "wetland restore {1} --only database",
	advice.SealStore:        "wetland seal --with {1}",
	advice.Shelve:           "wetland shelve {...}",
	advice.TakeSnapshot:     "wetland snapshot",
	advice.TakeBroken:       "wetland restore {1} --keep-broken",
	advice.Tidy:             "wetland tidy",
	advice.Update:           "wetland update {...}",
	advice.UpdateBroken:     "wetland update {1} --allow-older --keep-broken",
	advice.UpdateAll:        "wetland update --all",
	advice.UpdatePicked:     "wetland update {1} --pick {2}",
}

// CommandLine is what a person types to carry out a command.
func CommandLine(c *advice.Command) string {
	line, known := commandLines[c.Do]
	if !known {
		return string(c.Do) // a record of a newer version
	}
	with := make([]string, len(c.With))
	for i, one := range c.With {
		with[i] = phrase.ShellWord(one)
	}
	rest := slices.Clone(with)
	if strings.Contains(line, "{-1}") && len(with) > 0 {
		line = strings.ReplaceAll(line, "{-1}", with[len(with)-1])
		rest = rest[:len(rest)-1]
	}
	for i, one := range with {
		line = strings.ReplaceAll(line, "{"+string(rune('1'+i))+"}", one)
	}
	return strings.ReplaceAll(line, "{...}", strings.Join(rest, " "))
}
