//! Room on the stack for recursion over what a user wrote: nested expressions, long chains of operators and of steps.
//!
//! Depth is bounded where text is read ([`NESTED`], [`CHAINED`]); within these bounds nothing may end the process, on
//! whatever thread it runs.

/// How deep parentheses, calls and the like may stand within each other.
pub const NESTED: usize = 500;

/// How many operands an arithmetic chain may have: `a + b - c …`. Conditions joined with `and` or `or` and texts joined
/// with `||` may be as many as one likes, since they are joined in pairs.
pub const CHAINED: usize = 3000;

/// Free stack below which a call goes on in a new piece.
const RED_ZONE: usize = 128 << 10;

/// Bytes of a new piece.
const PIECE: usize = 2 << 20;

/// Bytes of stack for what is done once for a plan, and for each of its operators. The system gives the memory only
/// where it is touched.
const BASE: usize = 16 << 20;
const PER_OPERATOR: usize = 16 << 10;

/// Calls a function that may call itself, with room for its next few calls.
#[inline]
pub fn guarded<R>(f: impl FnOnce() -> R) -> R {
    stacker::maybe_grow(RED_ZONE, PIECE, f)
}

/// Calls a function that goes through a plan of so many operators by recursion.
pub fn with_room_for<R>(operators: usize, f: impl FnOnce() -> R) -> R {
    let wanted = BASE + operators * PER_OPERATOR;
    if stacker::remaining_stack().is_some_and(|left| left >= wanted) { f() } else { stacker::grow(wanted, f) }
}
