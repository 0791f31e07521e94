//! What the shells and the program say to each other while a line is typed. Words arrive as they were typed, with
//! quotes and backslashes; answers go back so that a name with blanks stays one word.

use crate::complete;
use clap::Command;
use clap_complete::engine::{CompletionCandidate, complete as candidates};
use clap_complete::env::{EnvCompleter, Powershell, Shells};
use std::ffi::OsString;
use std::io::{Result, Write};
use std::path::Path;

/// The shells that are spoken to.
pub fn all() -> Shells<'static> {
    Shells(&[&Bash, &Zsh, &Fish, &Powershell])
}

/// A quote that is open, or none.
type Open = Option<char>;

/// One word of a line.
#[derive(Default, Debug, PartialEq, Eq)]
struct Word {
    /// What it stands for.
    text: String,
    /// The quote that is open at its end.
    open: Open,
    /// How much of the text stands before the last of the marks at which the shell parts words.
    parted: usize,
}

/// A line parted into words, the last of which may be empty or end inside a quote.
fn words(line: &str, marks: &str) -> Vec<Word> {
    let mut found = vec![Word::default()];
    let mut begun = false;
    let mut letters = line.chars();
    while let Some(letter) = letters.next() {
        let word = found.last_mut().expect("there is one from the start");
        match (word.open, letter) {
            (None, ' ' | '\t' | '\n') => {
                if begun {
                    found.push(Word::default());
                }
                begun = false;
                continue;
            }
            (None, '"' | '\'') => word.open = Some(letter),
            (Some(quote), _) if letter == quote => word.open = None,
            (None, '\\') => word.text.extend(letters.next()),
            (Some('"'), '\\') => match letters.next() {
                Some(next) if "\"\\$`".contains(next) => word.text.push(next),
                next => word.text.extend(std::iter::once(letter).chain(next)),
            },
            (open, _) => {
                word.text.push(letter);
                if open.is_none() && marks.contains(letter) {
                    word.parted = word.text.len();
                }
            }
        }
        begun = true;
    }
    found
}

/// What could come next, without what a line of output cannot hold.
fn offered(cmd: &mut Command, words: &[String], dir: Option<&Path>) -> Result<Vec<CompletionCandidate>> {
    complete::typed(words);
    let args = words.iter().map(OsString::from).collect();
    let mut offers = candidates(cmd, args, words.len() - 1, dir)?;
    offers.retain(|offer| offer.get_value().to_str().is_some_and(|text| !text.contains(char::is_control)));
    Ok(offers)
}

fn text(offer: &CompletionCandidate) -> String {
    offer.get_value().to_string_lossy().into_owned()
}

/// A line each: the value, a tab, what it is.
fn listed(offers: &[CompletionCandidate], out: &mut dyn Write) -> Result<()> {
    for offer in offers {
        let about = offer.get_help().map(ToString::to_string).unwrap_or_default();
        let about = about.lines().next().unwrap_or_default().replace(char::is_control, " ");
        writeln!(out, "{}\t{about}", text(offer))?;
    }
    Ok(())
}

struct Bash;

impl EnvCompleter for Bash {
    fn name(&self) -> &'static str {
        "bash"
    }

    fn is(&self, name: &str) -> bool {
        name == "bash"
    }

    fn write_registration(&self, var: &str, _: &str, bin: &str, program: &str, out: &mut dyn Write) -> Result<()> {
        // Read line by line: an answer with a star or a question mark must not be taken for names of files.
        let script = r#"_clap_complete_BIN() {
    local line
    COMPREPLY=()
    while IFS= read -r line; do
        COMPREPLY+=("$line")
    done < <(VAR=bash PROGRAM -- "${COMP_LINE:0:COMP_POINT}" "$COMP_WORDBREAKS" 2>/dev/null)
}
complete -o nospace -o bashdefault -o default -F _clap_complete_BIN BIN
"#;
        out.write_all(script.replace("BIN", bin).replace("VAR", var).replace("PROGRAM", program).as_bytes())
    }

    /// Two words come: the line, and the marks at which bash parts words; it replaces what follows the last of them.
    fn write_complete(
        &self,
        cmd: &mut Command,
        args: Vec<OsString>,
        dir: Option<&Path>,
        out: &mut dyn Write,
    ) -> Result<()> {
        let mut args = args.into_iter().map(|a| a.to_string_lossy().into_owned());
        let (line, marks) = (args.next().unwrap_or_default(), args.next().unwrap_or_default());
        let typed = words(&line, &marks.replace(['"', '\'', '\\', ' ', '\t', '\n'], ""));
        let mut plain: Vec<String> = typed.iter().map(|w| w.text.clone()).collect();
        let Some(Word { open, parted, .. }) = typed.last() else { return Ok(()) };
        let mut offers: Vec<String> = offered(cmd, &plain, dir)?.iter().map(text).collect();
        // Inside a quote bash closes it behind the only answer; a place that holds others is answered with them.
        if let (Some(_), [only]) = (open, offers.as_slice())
            && only.ends_with(['/', ':', '='])
        {
            plain.pop();
            plain.push(only.clone());
            offers.extend(offered(&mut Command::clone(cmd), &plain, dir)?.iter().map(text));
        }
        let single = offers.len() == 1;
        for offer in offers {
            let Some(rest) = offer.get(*parted..) else { continue };
            let end = if single && open.is_none() && !rest.ends_with(['/', ':', '=']) { " " } else { "" };
            writeln!(out, "{}{end}", quoted(rest, *open))?;
        }
        Ok(())
    }
}

/// A text as it must be typed, outside or inside a quote.
fn quoted(text: &str, open: Open) -> String {
    let mut out = String::new();
    for letter in text.chars() {
        match open {
            Some('\'') if letter == '\'' => out.push_str("'\\'"),
            Some('"') if "\"\\$`".contains(letter) => out.push('\\'),
            None if letter.is_ascii() && !letter.is_ascii_alphanumeric() && !"-_./:=@,+%".contains(letter) => {
                out.push('\\');
            }
            _ => {}
        }
        out.push(letter);
    }
    out
}

struct Zsh;

impl EnvCompleter for Zsh {
    fn name(&self) -> &'static str {
        "zsh"
    }

    fn is(&self, name: &str) -> bool {
        name == "zsh"
    }

    fn write_registration(&self, var: &str, _: &str, bin: &str, program: &str, out: &mut dyn Write) -> Result<()> {
        // `compadd` quotes what it inserts; a value that goes on (a place, a name before a colon) gets no blank behind it.
        let script = r#"#compdef BIN
_clap_dynamic_completer_BIN() {
    local -a lines ends ends_shown goes_on goes_on_shown
    local line value shown
    lines=("${(@f)$(VAR=zsh PROGRAM -- "${(@)words[1,CURRENT]}" 2>/dev/null)}")
    for line in "${lines[@]}"; do
        value="${line%%$'\t'*}"
        [[ -n $value ]] || continue
        shown="$value"
        [[ -n ${line#*$'\t'} ]] && shown="$value  -- ${line#*$'\t'}"
        if [[ $value == *[/:=] ]]; then
            goes_on+=("$value") goes_on_shown+=("$shown")
        else
            ends+=("$value") ends_shown+=("$shown")
        fi
    done
    if (( ! $#ends && ! $#goes_on )); then
        _files
        return
    fi
    (( $#goes_on )) && compadd -l -V going-on -S '' -d goes_on_shown -a goes_on
    (( $#ends )) && compadd -l -V values -d ends_shown -a ends
}
if [[ ${funcstack[1]} == _BIN ]]; then
    _clap_dynamic_completer_BIN "$@"
else
    compdef _clap_dynamic_completer_BIN BIN
fi
"#;
        out.write_all(script.replace("BIN", bin).replace("VAR", var).replace("PROGRAM", program).as_bytes())
    }

    fn write_complete(
        &self,
        cmd: &mut Command,
        args: Vec<OsString>,
        dir: Option<&Path>,
        out: &mut dyn Write,
    ) -> Result<()> {
        let plain = args.iter().map(|arg| plain(&arg.to_string_lossy())).collect::<Vec<_>>();
        listed(&offered(cmd, &plain, dir)?, out)
    }
}

/// One word as typed, and what it stands for.
fn plain(typed: &str) -> String {
    words(typed, "").into_iter().map(|w| w.text).collect::<Vec<_>>().join(" ")
}

struct Fish;

impl EnvCompleter for Fish {
    fn name(&self) -> &'static str {
        "fish"
    }

    fn is(&self, name: &str) -> bool {
        name == "fish"
    }

    fn write_registration(&self, var: &str, _: &str, bin: &str, program: &str, out: &mut dyn Write) -> Result<()> {
        writeln!(
            out,
            "complete --keep-order --command {bin} --arguments \"({var}=fish {program} -- (commandline --current-process \
             --tokenize --cut-at-cursor) (commandline --current-token --cut-at-cursor))\""
        )
    }

    /// Fish takes the quotes from all words but the one that is typed.
    fn write_complete(
        &self,
        cmd: &mut Command,
        args: Vec<OsString>,
        dir: Option<&Path>,
        out: &mut dyn Write,
    ) -> Result<()> {
        let mut plain_words: Vec<String> = args.iter().map(|arg| arg.to_string_lossy().into_owned()).collect();
        if let Some(last) = plain_words.last_mut() {
            *last = plain(last);
        }
        listed(&offered(cmd, &plain_words, dir)?, out)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_is_parted_as_a_shell_does() {
        let texts = |line: &str| words(line, ":=").into_iter().map(|w| w.text).collect::<Vec<_>>();
        assert_eq!(texts("bastide  what Tidal\\ L"), ["bastide", "what", "Tidal L"]);
        assert_eq!(texts("bastide who read \"Tidal L"), ["bastide", "who", "read", "Tidal L"]);
        assert_eq!(texts("a 'it\"s' \"q\\\"\\n\" "), ["a", "it\"s", "q\"\\n", ""]);
        let parted = words("a group:x:y\\:z", ":=").pop().unwrap();
        assert_eq!((parted.text.as_str(), parted.parted), ("group:x:y:z", 8));
        assert_eq!(
            words("a \"group:x", ":=").pop().unwrap(),
            Word { text: "group:x".into(), open: Some('"'), parted: 0 }
        );
    }

    #[test]
    fn what_is_quoted_reads_back() {
        for text in ["a b", "it's", "\"$x`\\", "Straße (1)", "a*b;c&d"] {
            assert_eq!(plain(&quoted(text, None)), text);
            assert_eq!(plain(&format!("\"{}\"", quoted(text, Some('"')))), text);
            assert_eq!(plain(&format!("'{}'", quoted(text, Some('\'')))), text);
        }
    }
}
