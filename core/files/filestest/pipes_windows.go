package filestest

import "testing"

func (s suite) pipes(t *testing.T, _ string) { t.Skip("folders hold no pipes here") }
