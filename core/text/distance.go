package text

// Distance counts the letters to insert, delete, replace or swap with the next one to make one word of another.
func Distance(a, b string) int {
	rows := [3][]int{make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)}
	for j := range rows[1] {
		rows[1][j] = j
	}
	for i := range len(a) {
		before, last, row := rows[0], rows[1], rows[2]
		row[0] = i + 1
		for j := range len(b) {
			row[j+1] = min(last[j+1]+1, row[j]+1)
			if a[i] == b[j] {
				row[j+1] = min(row[j+1], last[j])
			} else {
				row[j+1] = min(row[j+1], last[j]+1)
			}
			if i > 0 && j > 0 && a[i] == b[j-1] && a[i-1] == b[j] {
				row[j+1] = min(row[j+1], before[j-1]+1)
			}
		}
		rows = [3][]int{last, row, before}
	}
	return rows[1][len(b)]
}

// Nearest is the word of a list that was probably meant by a mistyped one, "" when none is near.
func Nearest(word string, among []string) string {
	best, least := "", max(1, len(word)/3)
	for _, w := range among {
		if d := Distance(word, w); d <= least && (best == "" || d < least) {
			best, least = w, d
		}
	}
	return best
}
