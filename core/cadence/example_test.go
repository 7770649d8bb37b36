package cadence_test

import (
	"fmt"
	"time"

	"candidharbor/core/cadence"
)

func ExampleParse() {
	oslo, err := cadence.LoadZone("Europe/Oslo")
	if err != nil {
		fmt.Println(err)
		return
	}
	c, err := cadence.Parse("daily at 02:30", oslo)
	if err != nil {
		fmt.Println(err)
		return
	}
	// On the night on which the clocks go forward there is no half past two.
	at := time.Date(2026, 3, 27, 12, 0, 0, 0, oslo)
	for range 3 {
		at, _ = c.Next(at)
		fmt.Println(at.In(oslo).Format("Mon 2 Jan 15:04 MST"))
	}
	_, err = cadence.Parse("daily at 25:00", oslo)
	fmt.Println(err)
	// Output:
	// Sat 28 Mar 02:30 CET
	// Sun 29 Mar 03:00 CEST
	// Mon 30 Mar 02:30 CEST
	// cadence "daily at 25:00": at "25:00" (character 10) expected a time such as 23:30
}
