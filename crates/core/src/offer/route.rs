//! The way of a name through children.

/// The children that a condition is about, from the outermost: for each level the number of the children among its names,
/// plus one, in 16 bits.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct Route(u64);

impl Route {
    const BITS: u32 = u16::BITS;

    /// Returns the route of the row itself.
    pub(super) const HERE: Route = Route(0);

    /// Returns the route to children and from there on; `None` for more levels than an offer may have.
    pub(super) fn to(child: usize, rest: Route) -> Option<Route> {
        let step = u64::from(u16::try_from(child).ok()?) + 1;
        let has_room = rest.0.leading_zeros() >= Route::BITS;
        has_room.then_some(Route(rest.0 << Route::BITS | step))
    }

    /// Returns the outermost children, and the route from there on.
    pub(super) fn first(self) -> Option<(usize, Route)> {
        let step = (self.0 & u64::from(u16::MAX)) as usize;
        Some((step.checked_sub(1)?, Route(self.0 >> Route::BITS)))
    }

    /// Returns the number of levels.
    pub(super) fn levels(self) -> usize {
        (u64::BITS - self.0.leading_zeros()).div_ceil(Route::BITS) as usize
    }

    /// Returns whether the other begins with this route.
    pub(super) fn begins(self, other: Route) -> bool {
        match (self.first(), other.first()) {
            (None, _) => true,
            (Some((child, rest)), Some((other, others))) => child == other && rest.begins(others),
            (Some(_), None) => false,
        }
    }
}
