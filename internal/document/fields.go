package document

// Fields puts an object together of names of which there may be any number, each in the time of
// one. The zero value is not ready; use NewFields.
type Fields struct {
	object *Node
	at     map[string]int // nil while there are few
}

// few is up to how many names are looked through one by one.
const few = 16

// NewFields begins an empty object.
func NewFields() *Fields { return &Fields{object: NewObject()} }

// Object is what was put together so far.
func (f *Fields) Object() *Node { return f.object }

func (f *Fields) find(name string) int {
	if f.at == nil {
		for i := range f.object.Members() {
			if f.object.Members()[i].Key == name {
				return i
			}
		}
		return -1
	}
	if i, ok := f.at[name]; ok {
		return i
	}
	return -1
}

// Get gives the value under a name, nil for none.
func (f *Fields) Get(name string) *Node {
	if i := f.find(name); i >= 0 {
		return f.object.Members()[i].Value
	}
	return nil
}

// Set puts a value under a name, in place of one that is there.
func (f *Fields) Set(name string, value *Node) {
	if i := f.find(name); i >= 0 {
		f.object.Members()[i].Value = value
		return
	}
	f.object.AppendMembers(Member{name, value})
	if f.at == nil && len(f.object.Members()) > few {
		f.at = make(map[string]int, 4*few)
		for i, m := range f.object.Members() {
			f.at[m.Key] = i
		}
	} else if f.at != nil {
		f.at[name] = len(f.object.Members()) - 1
	}
}

// Append adds a value under a name; a name that is there already gets a list.
func (f *Fields) Append(name string, value *Node) {
	switch before := f.Get(name); {
	case before == nil:
		f.Set(name, value)
	case before.Kind == List:
		before.AppendItems(value)
	default:
		f.Set(name, NewList(before, value))
	}
}
