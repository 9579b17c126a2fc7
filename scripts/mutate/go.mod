module millgate/scripts/mutate

go 1.26
