package schema

// Lexical rules of the commonest built-in types, written out: a large reply
// has a million values. Each gives "" where the value is right, else what was
// expected (part 2 §3.2, §3.3).

func digitsFrom(s string, i int) int {
	for i < len(s) && s[i] >= '0' && s[i] <= '9' {
		i++
	}
	return i
}

func signFrom(s string) int {
	if s != "" && (s[0] == '+' || s[0] == '-') {
		return 1
	}
	return 0
}

func lexInteger(s string) string {
	if i := signFrom(s); i < len(s) && digitsFrom(s, i) == len(s) {
		return ""
	}
	return "a whole number"
}

func lexDigits(s string) string {
	if s != "" && digitsFrom(s, 0) == len(s) {
		return ""
	}
	return "a whole number without a sign"
}

// decimalEnd is the end of a decimal that begins at i, or -1.
func decimalEnd(s string, i int) int {
	whole := digitsFrom(s, i)
	if whole == len(s) || s[whole] != '.' {
		if whole == i {
			return -1
		}
		return whole
	}
	frac := digitsFrom(s, whole+1)
	if whole == i && frac == whole+1 {
		return -1
	}
	return frac
}

func lexDecimal(s string) string {
	if decimalEnd(s, signFrom(s)) == len(s) {
		return ""
	}
	return "a decimal number"
}

func lexBoolean(s string) string {
	switch s {
	case "true", "false", "1", "0":
		return ""
	}
	return "true, false, 1 or 0"
}

func lexFloat(s string) string {
	if s == "INF" || s == "-INF" || s == "NaN" {
		return ""
	}
	end := decimalEnd(s, signFrom(s))
	if end > 0 && end < len(s) && (s[end] == 'e' || s[end] == 'E') {
		from := end + 1 + signFrom(s[end+1:])
		if to := digitsFrom(s, from); to > from {
			end = to
		}
	}
	if end == len(s) && end > 0 {
		return ""
	}
	return "a number, INF, -INF or NaN"
}

// plainDate tells, without more ado, whether a value is a date or a date and
// time of the commonest form, 2027-03-01 or 2027-03-01T14:30:00Z; ok is false
// where that cannot be told here.
//
//revive:disable-next-line:cyclomatic the cases of the standard, in one place
func plainDate(s string, withTime bool) (ok bool) {
	two := func(i int) int {
		a, b := s[i]-'0', s[i+1]-'0'
		if a > 9 || b > 9 {
			return -1
		}
		return int(a)*10 + int(b)
	}
	n := 10
	if withTime {
		n = 19
	}
	if len(s) < n || len(s) > n+1 || len(s) == n+1 && s[n] != 'Z' || s[4] != '-' || s[7] != '-' {
		return false
	}
	c, y, m, d := two(0), two(2), two(5), two(8)
	if c < 0 || y < 0 || c+y == 0 || m < 1 || m > 12 || d < 1 || d > 28 {
		return false
	}
	if !withTime {
		return true
	}
	if s[10] != 'T' || s[13] != ':' || s[16] != ':' {
		return false
	}
	h, mi, sec := two(11), two(14), two(17)
	return h >= 0 && h < 24 && mi >= 0 && mi < 60 && sec >= 0 && sec < 60
}

// smallInt is a number of up to 18 digits and no point.
func smallInt(v string) (n int64, ok bool) {
	if len(v) == 0 || len(v) > 19 {
		return 0, false
	}
	i := 0
	if v[0] == '-' || v[0] == '+' {
		i = 1
	}
	if len(v)-i == 0 || len(v)-i > 18 {
		return 0, false
	}
	for _, c := range []byte(v[i:]) {
		if c < '0' || c > '9' {
			return 0, false
		}
		n = n*10 + int64(c-'0')
	}
	if v[0] == '-' {
		n = -n
	}
	return n, true
}

// smallInts are two such numbers.
func smallInts(a, b string) (x, y int64, ok bool) {
	if x, ok = smallInt(a); ok {
		y, ok = smallInt(b)
	}
	return x, y, ok
}
