package snapshot_test

import (
	"fmt"
	"time"

	"wetland/core/snapshot"
)

func ExampleRules_Judge() {
	now := time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)
	var all []*snapshot.Manifest
	for i, days := range []int{40, 40, 3, 0} {
		all = append(all, &snapshot.Manifest{Name: fmt.Sprint("snap-", i+1), FilesAt: now.AddDate(0, 0, -days).Add(time.Duration(i) * time.Minute)})
	}
	for _, fate := range (snapshot.Rules{AllForDays: 14, DailyForDays: 60}).Judge(all, map[string]string{}, now) {
		fmt.Println(fate.Name, map[bool]string{true: "goes:", false: "stays:"}[fate.Go], fate.Why)
	}
	// Output:
	// snap-1 goes: past its time
	// snap-2 stays: the last of its day
	// snap-3 stays: of the last 14 days
	// snap-4 stays: the newest
}
