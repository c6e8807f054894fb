module hovix

go 1.26.0

require (
	github.com/cespare/xxhash/v2 v2.3.0
	github.com/klauspost/compress v1.20.3
	github.com/stretchr/testify v1.12.1
	golang.org/x/sync v0.24.0
)

require go.yaml.in/yaml/v3 v3.0.5 // indirect
