//! What `test` answers.

use bastide_answers::answer;
use bastide_answers::prove::Proof;

answer! {
    /// What the tests came to.
    pub struct Tested of crate::found::test::Tested {
        /// Every expectation and guarantee that was asked.
        pub proofs: Vec<Proof>,
        /// Guarantees that hold today and fail on a later day, each at its first.
        pub later: Vec<Proof>,
        /// The last day looked at, where later days were.
        pub through: Option<String>,
        /// How many fail, later ones included.
        pub failed: usize,
        /// Rules on which no test depends; none where that was not asked.
        pub untested: Option<Vec<String>>,
        /// How many rules there are.
        pub rules: usize,
    }
}
