package phrase_test

import (
	"fmt"
	"time"

	"candidharbor/internal/phrase"
)

func ExampleSize() {
	fmt.Println(phrase.Size(999), phrase.Size(1536), phrase.Size(3<<30))
	// Output: 999 B 1.5 KiB 3.0 GiB
}

func ExampleAgo() {
	fmt.Println(phrase.Ago(90 * time.Minute))
	fmt.Println(phrase.Ago(14*24*time.Hour + time.Hour))
	// Output:
	// 1 hour 30 minutes
	// 14 days
}

// Names have one plain form that shows all of their bytes, and leads back to them.
func ExampleRawPath() {
	shown := phrase.Printable([]byte("letters/caf\xe9\x1b[2J%"))
	fmt.Println(shown)
	fmt.Printf("%q\n", phrase.RawPath(shown))
	// Output:
	// letters/caf%E9%1B[2J%25
	// "letters/caf\xe9\x1b[2J%"
}
