package smoke

import (
	"slices"
)

// What a page says comes from the database, and an update of its frame leaves it: words,
// what stands under each heading, the rows of tables.

// Table is one table of a page.
type Table struct {
	Name   string   `json:"name"`           // its id, the first of its classes in the alphabet, or its number
	Within string   `json:"within"`         // the landmark it is in
	Says   []string `json:"says,omitempty"` // its first words
	Rows   int      `json:"rows"`           // with data in them
	// Columns are the cells of its longest row.
	Columns int `json:"columns,omitempty"`
}

// Form is one form of a page.
type Form struct {
	Name    string   `json:"name"`             // its id, name or target
	Within  string   `json:"within,omitempty"` // the landmark it is in
	Fields  []string `json:"fields"`
	To      string   `json:"to,omitempty"` // path and query; with its host on another site; "": unknown
	Method  string   `json:"method,omitempty"`
	Buttons int      `json:"buttons,omitempty"` // that send it
	Secret  bool     `json:"secret,omitempty"`  // it asks for a password
	Hidden  bool     `json:"hidden,omitempty"`  // by a style sheet
	// Choices counts what each field offers to choose from; Tokens are the hidden fields that
	// prove that the form comes from the site.
	Choices map[string]int `json:"choices,omitempty"`
	Tokens  []string       `json:"tokens,omitempty"`
	// Along are the other hidden fields that are sent along, such as the number of the product
	// or of the post: their names, for their values change.
	Along []string `json:"along,omitempty"`
}

// Around the landmarks of a page stands what the site's own code puts there: a band above the
// page, a note below it.

// Block is one of these.
type Block struct {
	Name    string `json:"name"` // its element and classes
	Letters int    `json:"letters"`
	Marks   Member `json:"marks"`
}

// Cards, pictures of a gallery, answers that unfold, slides: whatever stands there several times
// side by side is a list, whatever elements it is made of. That most of it is gone is missed
// however long the page is.

// Group is some siblings of one kind.
type Group struct {
	Name    string   `json:"name"`    // the element and its classes
	Members []Member `json:"members"` // of which something is known
}

// Member is what one of them is known by: marks of its first words, its heading, its link and
// its picture. One that is there in another form has one of them still.
type Member []string

// Menu is one navigation of a page.
type Menu struct {
	Within string   `json:"within"` // the landmark it is in
	Links  []string `json:"links"`  // their words
	To     []string `json:"to"`     // where each leads; "": it is not known, or changes
}

// Target returns where a link leads. Menus that were recorded long ago do not tell.
func (m Menu) Target(i int) string {
	if i >= len(m.To) {
		return ""
	}
	return m.To[i]
}

// Targets are where its links lead, without those that lead nowhere.
func (m Menu) Targets() []string {
	return slices.DeleteFunc(slices.Clone(m.To), func(to string) bool { return to == "" })
}

// Name says which menu of its page it is.
func (m Menu) Name() string { return "menu in the " + m.Within }

// Part is one landmark of a page, or its main heading, and what style sheets make of it.
type Part struct {
	Name   string   `json:"name"`
	Within string   `json:"within"`
	Says   []string `json:"says,omitempty"` // its first words, by which it is known again
	// Layout is how it arranges what is in it, by the width of the screen; Hidden, at
	// which widths it does not show.
	Layout map[string]string `json:"layout,omitempty"`
	Hidden []string          `json:"hidden,omitempty"`
}

// Columns of a row, cards, pictures of a gallery stand side by side. That they stand one below the
// other now is seen at a glance, and in no text.

// Row is an element with several parts, and on which screens they stand side by side.
type Row struct {
	Name string   `json:"name"`           // its element and classes
	Says string   `json:"says,omitempty"` // a mark of its first words
	Side []string `json:"side,omitempty"` // names of widths
}

// Link is one link of a page to a page of the site.
type Link struct {
	Text string `json:"text"`
	To   string `json:"to,omitempty"` // path and query; "": nowhere but the page itself
	Menu bool   `json:"menu,omitempty"`
}
