//! How long whoever types a rule waits for the editor service: `typing PROGRAM ESTATE [LETTERS]`.
//!
//! The letters of a rule are typed at the end of a policy file, one at a time. After each it is measured how long it takes
//! until the service has said what is wrong with that very text, and then, until it has said what could come next.
#![allow(clippy::print_stdout, reason = "a tool that says what it measured")]

use bastide_testkit::client::{Client, position};
use serde_json::json;
use std::path::Path;
use std::time::Instant;

const RULE: &str = "\nrule what-is-typed {\n    because \"Typed letter by letter.\"\n    who     anyone where user.clearance >= resource.label\n    \
may     read\n    what    item where resource.label <= internal\n}\n";

fn main() {
    let arguments: Vec<String> = std::env::args().collect();
    let [_, program, estate, rest @ ..] = arguments.as_slice() else {
        println!("typing PROGRAM ESTATE [LETTERS]");
        std::process::exit(2);
    };
    let letters: usize = rest.first().and_then(|number| number.parse().ok()).unwrap_or(usize::MAX);
    let name = "policy.bastide";
    let begun = Instant::now();
    let mut client = Client::new(Path::new(program), Path::new(estate), json!({}), json!({}));
    client.open(name);
    let uri = client.uri(name);
    client.edit(name, 0..0, "# typed\n");
    client.until("the estate is read", |client| client.is_up_to_date(name));
    println!("read after {:.2} s", begun.elapsed().as_secs_f64());
    let (mut diagnostics, mut completion, mut both) = (Vec::new(), Vec::new(), Vec::new());
    for letter in RULE.chars().take(letters) {
        let end = client.texts[name].len();
        let at = Instant::now();
        client.edit(name, end..end, &letter.to_string());
        client.until("what is wrong", |client| client.is_up_to_date(name));
        diagnostics.push(at.elapsed().as_secs_f64());
        let text = &client.texts[name];
        let asked = json!({ "textDocument": { "uri": uri }, "position": position(text, text.len()) });
        let at = Instant::now();
        client.ask("textDocument/completion", asked.clone());
        completion.push(at.elapsed().as_secs_f64());
        // As editors do: the letter, and at once the question what could come next.
        let end = client.texts[name].len();
        let at = Instant::now();
        client.edit(name, end..end, " ");
        client.ask("textDocument/completion", asked);
        both.push(at.elapsed().as_secs_f64());
        client.edit(name, end..end + 1, "");
        client.until("what is wrong", |client| client.is_up_to_date(name));
    }
    for (what, mut times) in [("diagnostics", diagnostics), ("completion", completion), ("letter and completion", both)]
    {
        times.sort_by(f64::total_cmp);
        let at = |share: f64| 1000.0 * times[((times.len() - 1) as f64 * share) as usize];
        println!(
            "{what:<22} median {:.1} ms, 99th of a hundred {:.1} ms, at most {:.1} ms",
            at(0.5),
            at(0.99),
            at(1.0)
        );
    }
    client.quit();
}
