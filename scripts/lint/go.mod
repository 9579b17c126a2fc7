module millgate/scripts/lint

go 1.26.0

require (
	github.com/kisielk/errcheck v1.30.0
	github.com/kkHAIKE/contextcheck v1.1.6
	github.com/nishanths/exhaustive v0.17.1
	golang.org/x/tools v0.52.0
)

require (
	github.com/gostaticanalysis/analysisutil v0.7.1 // indirect
	github.com/gostaticanalysis/comment v1.5.0 // indirect
	golang.org/x/mod v0.42.0 // indirect
	golang.org/x/sync v0.24.0 // indirect
	golang.org/x/tools/go/packages/packagestest v0.1.1-deprecated // indirect
)
