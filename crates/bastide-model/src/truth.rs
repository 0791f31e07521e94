//! Three-valued logic: Kleene's strong connectives.

/// True, false, or not known because a value is missing. Ordered false < unknown < true, so that
/// `and` is the least and `or` the greatest.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub enum Truth {
    /// It does not hold.
    False,
    /// It cannot be said.
    Unknown,
    /// It holds.
    True,
}

impl Truth {
    /// Both.
    pub fn and(self, other: Truth) -> Truth {
        self.min(other)
    }

    /// Either.
    pub fn or(self, other: Truth) -> Truth {
        self.max(other)
    }

    /// What a statement that takes away goes by: anything but false.
    pub fn not_false(self) -> bool {
        self != Truth::False
    }

    /// What a statement that gives goes by: true alone.
    pub fn is_true(self) -> bool {
        self == Truth::True
    }
}

impl std::ops::Not for Truth {
    type Output = Truth;

    fn not(self) -> Truth {
        match self {
            Truth::False => Truth::True,
            Truth::Unknown => Truth::Unknown,
            Truth::True => Truth::False,
        }
    }
}

impl From<bool> for Truth {
    fn from(known: bool) -> Truth {
        if known { Truth::True } else { Truth::False }
    }
}

impl From<Option<bool>> for Truth {
    fn from(known: Option<bool>) -> Truth {
        known.map_or(Truth::Unknown, Truth::from)
    }
}

#[cfg(test)]
mod tests {
    use super::Truth::{False, True, Unknown};

    #[test]
    fn kleene_tables() {
        for (a, b, and, or) in [
            (True, True, True, True),
            (True, Unknown, Unknown, True),
            (True, False, False, True),
            (Unknown, Unknown, Unknown, Unknown),
            (Unknown, False, False, Unknown),
            (False, False, False, False),
        ] {
            assert_eq!((a.and(b), b.and(a), a.or(b), b.or(a)), (and, and, or, or));
        }
        assert_eq!((!True, !Unknown, !False), (False, Unknown, True));
    }
}
