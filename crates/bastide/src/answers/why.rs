//! What `why` answers.

use bastide_answers::answer;
use bastide_answers::explain::Explanation;
use bastide_answers::remedy::Remedies;

answer! {
    /// The whole answer.
    #[schemars(rename = "Answer")]
    pub struct WhyAnswer of crate::found::why::WhyAnswer {
        /// The decision, explained.
        #[serde(flatten)]
        pub explanation: Explanation,
        /// Who changed the lines of the statements last; empty outside a git checkout.
        pub touched: Vec<Touched>,
        /// What would turn it; none where no remedies were asked for.
        pub remedies: Option<Remedies>,
    }

    /// The last change of a line.
    pub struct Touched of crate::history::Touched {
        /// File and line, as the estate names them.
        pub place: String,
        /// Who.
        pub author: String,
        /// The day, in the author's time zone.
        pub date: String,
        /// The first line of the commit's message.
        pub message: String,
        /// The commit, shortened.
        pub commit: String,
    }
}
