package schema

// This file says what checks and triggers are for that models ask for.

// Purpose tells what a check or trigger of ours is for. It gives the name and
// the words in which a change of it is told; empty when it is not known.
type Purpose string

// Purposes of checks and triggers that the models ask for.
const (
	ForType      Purpose = "type"
	ForNonblank  Purpose = "nonblank"
	ForRange     Purpose = "range"
	ForChoice    Purpose = "choice"
	ForCheck     Purpose = "check"
	ForImmutable Purpose = "immutable"
	ForStamped   Purpose = "stamped"
	// ForSoftDelete is the type check of the column that marks a row as deleted,
	// under a name that tells it from any other time; ForChildren the trigger by
	// which the rows that refer to a deleted one go and come back with it.
	ForSoftDelete Purpose = "soft_delete"
	ForChildren   Purpose = "children"
	// ForBridge is the trigger between the two migrations of a staged pair: it lets
	// the application write that does not know of the change yet.
	ForBridge Purpose = "bridge"
	// ForGuard is the trigger that lets no row go permanently which is not marked as
	// deleted; ForGuardMark keeps the marks for the members of a role, ForGuardAll refuses
	// to empty the table, and ForGuardChildren is that of a table from which a deletion
	// would reach guarded rows past their own triggers.
	ForGuard         Purpose = "guard"
	ForGuardMark     Purpose = "guard_mark"
	ForGuardAll      Purpose = "guard_all"
	ForGuardChildren Purpose = "guard_children"
)

// Purposes are all of them, for reading names.
var Purposes = []Purpose{
	ForType, ForChoice, ForNonblank, ForRange, ForSoftDelete, ForStamped, ForImmutable, ForChildren, ForBridge,
	ForGuard, ForGuardMark, ForGuardAll, ForGuardChildren,
}

// OfTrigger tells whether a purpose is a trigger's rather than a check's.
func (p Purpose) OfTrigger() bool {
	switch p {
	case ForStamped, ForImmutable, ForChildren, ForBridge, ForGuard, ForGuardMark, ForGuardAll, ForGuardChildren:
		return true
	}
	return false
}
