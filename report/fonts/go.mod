module codeberg.org/go-fonts/liberation

go 1.26.0

require golang.org/x/image v0.30.0
