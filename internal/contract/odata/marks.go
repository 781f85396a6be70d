package odata

import (
	"strings"

	"testbench/internal/document"
)

// read takes over what annotations of the Core and Capabilities vocabularies say
// (OData Vocabularies 4.0). Terms are told by their last name: vocabularies are
// included under all sorts of aliases.
func (k *marks) read(_ *model, terms []annotation) {
	for _, a := range terms {
		says := func(name string) (value, has bool) {
			inner, ok := a.record[name]
			return inner.value != "false", ok
		}
		unless := func(flag *bool, name string) {
			if value, has := says(name); has && !value {
				*flag = true
			}
		}
		isTrue := a.value != "false"
		switch term := a.term[strings.LastIndexByte(a.term, '.')+1:]; term {
		case "Computed":
			k.computed = isTrue
		case "ComputedDefaultValue":
			k.defaulted = isTrue
		case "Immutable":
			k.immutable = isTrue
		case "Permissions":
			k.computed = k.computed || a.value != "" && strings.HasSuffix(a.value, "/Read")
		case "OptimisticConcurrency":
			k.concurrency = true
		case "FilterRestrictions":
			unless(&k.unfilterable, "Filterable")
			k.notFilterable = append(k.notFilterable, a.record["NonFilterableProperties"].paths...)
			k.filterNeeded = append(k.filterNeeded, a.record["RequiredProperties"].paths...)
		case "SortRestrictions":
			unless(&k.unsortable, "Sortable")
			k.notSortable = append(k.notSortable, a.record["NonSortableProperties"].paths...)
		case "InsertRestrictions":
			unless(&k.noInsert, "Insertable")
			k.notInsertable = append(k.notInsertable, a.record["NonInsertableProperties"].paths...)
			k.notNull = append(k.notNull, a.record["RequiredProperties"].paths...)
		case "UpdateRestrictions":
			unless(&k.noUpdate, "Updatable")
			k.notUpdatable = append(k.notUpdatable, a.record["NonUpdatableProperties"].paths...)
		case "DeleteRestrictions":
			unless(&k.noDelete, "Deletable")
		case "CountRestrictions":
			unless(&k.noCount, "Countable")
		case "SearchRestrictions":
			unless(&k.noSearch, "Searchable")
		case "ExpandRestrictions":
			unless(&k.noExpand, "Expandable")
			k.notExpandable = append(k.notExpandable, a.record["NonExpandableProperties"].paths...)
		case "TopSupported":
			k.noTop = !isTrue
		case "SkipSupported":
			k.noSkip = !isTrue
		}
	}
}

// attributes takes over what metadata of 2.0 says by attributes of other
// namespaces, which many services write in the same words.
func (k *marks) attributes(n *document.Node) {
	for _, a := range n.Attributes() {
		if a.Name.Space == "" || a.IsDeclaration() {
			continue
		}
		no := a.Value == "false"
		switch a.Name.Local {
		case "creatable":
			k.noInsert = no
			k.computed = k.computed || no && n.Name().Local == "Property"
		case "updatable":
			k.noUpdate = no
			k.immutable = no
		case "deletable":
			k.noDelete = no
		case "filterable":
			k.unfilterable = no
		case "sortable":
			k.unsortable = no
		case "searchable":
			k.noSearch = no
		case "countable":
			k.noCount = no
		case "pageable":
			k.noTop, k.noSkip = no, no
		case "required-in-filter":
			if a.Value == "true" {
				k.filterNeeded = append(k.filterNeeded, attribute(n, "Name"))
			}
		}
	}
}
