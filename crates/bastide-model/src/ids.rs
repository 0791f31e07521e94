//! Dense ids. Each counts from 0 in the order of its table.

macro_rules! ids {
    ($($(#[$about:meta])* $name:ident)*) => {$(
        $(#[$about])*
        #[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
        pub struct $name(pub u32);

        impl $name {
            /// The id of a position in its table.
            pub fn new(index: usize) -> Self {
                $name(index as u32)
            }

            /// The position in its table.
            pub fn index(self) -> usize {
                self.0 as usize
            }

            /// The ids of a table of this length, in order.
            pub fn all(length: usize) -> impl DoubleEndedIterator<Item = Self> + ExactSizeIterator + Clone {
                (0..length as u32).map($name)
            }
        }
    )*};
}

ids! {
    /// A user, in byte order of ids.
    UserId
    /// A group, in byte order of ids.
    GroupId
    /// A resource, in pre-order of the tree, so that everything beneath one is a range.
    ResourceId
    /// A kind of resource.
    KindId
    /// An action, in the order of declaration.
    ActionId
    /// A choice or a scale.
    TypeId
    /// An attribute of users.
    UserAttributeId
    /// An attribute of resources.
    ResourceAttributeId
    /// An attribute of the session.
    SessionAttributeId
    /// A role.
    RoleId
    /// A statement, in policy order.
    StatementId
    /// A layer, in the declared order; the one after the last is `rest`.
    LayerId
}

/// A line of a file of the estate.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct Origin {
    /// The file.
    pub file: bastide_syntax::FileId,
    /// The line, from 1.
    pub line: u32,
}
