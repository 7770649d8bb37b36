module candidharbor

go 1.26.8

require (
	github.com/RoaringBitmap/roaring/v2 v2.30.0
	github.com/fxamacker/cbor/v2 v2.10.0
	github.com/hashicorp/golang-lru/v2 v2.0.7
	github.com/klauspost/compress v1.20.3
	github.com/stretchr/testify v1.12.1
	github.com/zeebo/blake3 v0.2.4
	golang.org/x/sync v0.24.0
	golang.org/x/sys v0.49.0
	golang.org/x/time v0.16.0
	pgregory.net/rapid v1.3.0
)

require (
	github.com/bits-and-blooms/bitset v1.24.4 // indirect
	github.com/bmatcuk/doublestar/v4 v4.10.4 // indirect
	github.com/klauspost/cpuid/v2 v2.3.0 // indirect
	github.com/mschoch/smat v0.2.0 // indirect
	github.com/x448/float16 v0.8.4 // indirect
	go.yaml.in/yaml/v3 v3.0.5 // indirect
)
