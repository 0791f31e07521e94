//! Proofs as a JUnit report, which every build server reads, written so that it is valid by the
//! strictest of the schemas in use, `junit-10.xsd`.

use bastide_engine::prove::{Proof, Sort};
use quick_xml::Writer;
use quick_xml::events::{BytesDecl, BytesText, Event};
use std::io;

/// A report with a suite of expectations and one of guarantees. `about`: keys and values that each suite says of itself.
pub fn report(estate: &str, proofs: &[Proof], about: &[(String, String)]) -> String {
    let mut text = Vec::new();
    write(&mut Writer::new_with_indent(&mut text, b' ', 2), estate, proofs, about).expect("memory takes everything");
    text.push(b'\n');
    String::from_utf8(text).expect("it was text before")
}

fn write(xml: &mut Writer<&mut Vec<u8>>, estate: &str, proofs: &[Proof], about: &[(String, String)]) -> io::Result<()> {
    xml.write_event(Event::Decl(BytesDecl::new("1.0", Some("UTF-8"), None)))?;
    let suites = [(Sort::Expectation, "expectations"), (Sort::Guarantee, "guarantees")];
    let all: Vec<&Proof> = proofs.iter().collect();
    let root = xml.create_element("testsuites").with_attributes(counted(&plain(estate), &all).each());
    root.write_inner_content(|xml| {
        for (sort, name) in suites {
            let of: Vec<&Proof> = proofs.iter().filter(|p| p.sort == sort).collect();
            let suite = xml.create_element("testsuite").with_attributes(counted(name, &of).each());
            suite.write_inner_content(|xml| {
                if !about.is_empty() {
                    xml.create_element("properties").write_inner_content(|xml| {
                        about.iter().try_for_each(|(key, value)| {
                            let attributes = [("name", key.as_str()), ("value", &plain(value))];
                            xml.create_element("property").with_attributes(attributes).write_empty().map(drop)
                        })
                    })?;
                }
                of.iter().try_for_each(|proof| case(xml, proof))
            })?;
        }
        Ok(())
    })?;
    Ok(())
}

fn case(xml: &mut Writer<&mut Vec<u8>>, proof: &Proof) -> io::Result<()> {
    let (name, place) = (plain(&proof.name), plain(&proof.place));
    let element =
        xml.create_element("testcase").with_attributes([("name", name.as_str()), ("classname", place.as_str())]);
    if proof.holds {
        element.write_empty()?;
        return Ok(());
    }
    element.write_inner_content(|xml| {
        let lines = proof.breaches.iter().map(|b| match &b.why {
            Some(why) => format!("{}: {why}", b.claim),
            None => b.claim.clone(),
        });
        let message = format!("{} of {} do not hold", proof.broken, proof.checked);
        xml.create_element("failure")
            .with_attributes([("type", "broken"), ("message", message.as_str())])
            .write_text_content(BytesText::new(&plain(&lines.collect::<Vec<_>>().join("\n"))))?;
        Ok(())
    })?;
    Ok(())
}

/// The attributes that the whole and each suite have.
struct Counted {
    name: String,
    tests: String,
    failures: String,
}

fn counted(name: &str, proofs: &[&Proof]) -> Counted {
    let failures = proofs.iter().filter(|p| !p.holds).count();
    Counted { name: name.to_string(), tests: proofs.len().to_string(), failures: failures.to_string() }
}

impl Counted {
    fn each(&self) -> [(&str, &str); 4] {
        [("name", &self.name), ("tests", &self.tests), ("failures", &self.failures), ("errors", "0")]
    }
}

/// Text without what XML cannot hold.
fn plain(text: &str) -> String {
    let fits = |c: char| (!c.is_control() || c == '\n' || c == '\t') && !matches!(c, '\u{fffe}' | '\u{ffff}');
    text.chars().map(|c| if fits(c) { c } else { '\u{fffd}' }).collect()
}
