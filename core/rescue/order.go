package rescue

// Order puts tables into the order in which their rows can be inserted: what is referred to first. Tables that refer to
// each other in a circle stand together.
func Order(tables []*Table) [][]*Table {
	// Tarjan's algorithm finds the circles, and ends each after those that it refers to.
	w := walk{number: make(map[*Table]int), low: make(map[*Table]int), open: make(map[*Table]bool)}
	for _, t := range tables {
		if w.number[t] == 0 {
			w.visit(t)
		}
	}
	return w.groups
}

type walk struct {
	number, low map[*Table]int
	open        map[*Table]bool
	stack       []*Table
	groups      [][]*Table
}

func (w *walk) visit(t *Table) {
	w.number[t] = len(w.number) + 1
	w.low[t] = w.number[t]
	w.stack, w.open[t] = append(w.stack, t), true
	for _, p := range t.Parents {
		switch {
		case p.Parent == nil:
		case w.number[p.Parent] == 0:
			w.visit(p.Parent)
			w.low[t] = min(w.low[t], w.low[p.Parent])
		case w.open[p.Parent]:
			w.low[t] = min(w.low[t], w.number[p.Parent])
		}
	}
	if w.low[t] != w.number[t] {
		return
	}
	var group []*Table
	for {
		last := w.stack[len(w.stack)-1]
		w.stack, w.open[last] = w.stack[:len(w.stack)-1], false
		group = append(group, last)
		if last == t {
			break
		}
	}
	w.groups = append(w.groups, group)
}
