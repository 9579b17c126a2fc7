module millgate/web

// This folder holds the front end. A module of its own keeps what npm installs
// out of the Go packages of the project.
go 1.26
