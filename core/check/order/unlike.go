package order

// unlike is an id of the form of another that is hardly anybody's: its last digits are others, or
// where it has none each letter is another of its case. What stands before often says what kind of
// thing it is, or of which version an id is (RFC 9562 section 4). n tells several apart.
func unlike(id string, n int) string {
	b := []byte(id)
	turn := func(i int, from byte, many, by int) { b[i] = from + byte((int(b[i]-from)+by+n)%many) }
	digits := 0
	for i := len(b) - 1; i >= 0 && digits < lastDigits; i-- {
		if b[i] >= '0' && b[i] <= '9' {
			digits++
			turn(i, '0', 10, 4)
		}
	}
	for i, c := range b {
		switch {
		case digits > 0:
		case c >= 'a' && c <= 'z':
			turn(i, 'a', 26, 9)
		case c >= 'A' && c <= 'Z':
			turn(i, 'A', 26, 9)
		}
	}
	return string(b)
}

// lastDigits are as many as are changed.
const lastDigits = 4
