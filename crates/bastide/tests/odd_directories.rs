//! Directories that do what the one of the other test does not: lists in parts, other servers that are named, answers that
//! are none. A small stand-in speaks as much of LDAP (RFC 4511) as it takes.

mod common;

use std::fs;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::Path;
use std::sync::Arc;

const MEMBERS: usize = 2_500;
/// How many values of a list come at a time.
const PART: usize = 1_000;

/// A value in the basic encoding rules: its tag, its length, and what is in it.
fn tlv(tag: u8, content: &[u8]) -> Vec<u8> {
    let mut out = vec![tag, 0x84];
    out.extend((content.len() as u32).to_be_bytes());
    out.extend(content);
    out
}

fn text(text: &str) -> Vec<u8> {
    tlv(0x04, text.as_bytes())
}

/// The first value of some bytes, and the rest.
fn first(bytes: &[u8]) -> (u8, &[u8], &[u8]) {
    let (tag, length) = (bytes[0], usize::from(bytes[1]));
    let (start, length) = match length {
        0..=127 => (2, length),
        long => {
            let count = long - 128;
            (2 + count, bytes[2..2 + count].iter().fold(0, |n, b| n << 8 | usize::from(*b)))
        }
    };
    (tag, &bytes[start..start + length], &bytes[start + length..])
}

/// What a search asks for: its base, how deep, and the attributes.
struct Search {
    base: String,
    whole: bool,
    attributes: Vec<String>,
}

fn search(op: &[u8]) -> Search {
    let (_, base, rest) = first(op);
    let (_, scope, mut rest) = first(rest);
    // Aliases, two limits, types only, the filter.
    for _ in 0..5 {
        rest = first(rest).2;
    }
    let (_, mut list, _) = first(rest);
    let mut attributes = Vec::new();
    while !list.is_empty() {
        let (_, name, more) = first(list);
        attributes.push(String::from_utf8_lossy(name).into_owned());
        list = more;
    }
    Search { base: String::from_utf8_lossy(base).into_owned(), whole: scope == [2], attributes }
}

fn entry(name: &str, attributes: &[(&str, Vec<String>)]) -> Vec<u8> {
    let one = |(name, values): &(&str, Vec<String>)| {
        let values: Vec<u8> = values.iter().flat_map(|value| text(value)).collect();
        tlv(0x30, &[text(name), tlv(0x31, &values)].concat())
    };
    let list: Vec<u8> = attributes.iter().flat_map(one).collect();
    tlv(0x64, &[text(name), tlv(0x30, &list)].concat())
}

fn done(tag: u8, code: u8) -> Vec<u8> {
    tlv(tag, &[tlv(0x0a, &[code]), text(""), text("")].concat())
}

fn person(i: usize) -> Vec<u8> {
    let name = format!("uid=p{i},dc=x");
    entry(&name, &[("objectClass", vec!["inetOrgPerson".to_string()]), ("uid", vec![format!("p{i}")])])
}

fn group(attribute: &str, members: std::ops::Range<usize>) -> Vec<u8> {
    let members = members.map(|i| format!("uid=p{i},dc=x")).collect();
    entry(
        "cn=all,dc=x",
        &[("objectClass", vec!["group".to_string()]), ("cn", vec!["all".to_string()]), (attribute, members)],
    )
}

/// Gives the operations that answer a search.
type Answer = dyn Fn(&Search) -> Vec<Vec<u8>> + Send + Sync;

/// A directory that answers searches so; its address.
fn directory(answer: Arc<Answer>) -> String {
    let listener = TcpListener::bind(("127.0.0.1", 0)).unwrap();
    let address = format!("ldap://{}", listener.local_addr().unwrap());
    std::thread::spawn(move || {
        for stream in listener.incoming() {
            serve(stream.unwrap(), &*answer);
        }
    });
    address
}

fn serve(mut stream: TcpStream, answer: &Answer) {
    let mut buffer = Vec::new();
    let mut piece = [0; 1 << 16];
    loop {
        // Whole messages are short, and come as a sequence.
        let whole = buffer.len() > 6 && {
            let length = usize::from(buffer[1]);
            let count = if length > 127 { length - 128 } else { 0 };
            let length =
                if count > 0 { buffer[2..2 + count].iter().fold(0, |n, b| n << 8 | usize::from(*b)) } else { length };
            buffer.len() >= 2 + count + length
        };
        if !whole {
            match stream.read(&mut piece) {
                Ok(0) | Err(_) => return,
                Ok(number) => buffer.extend_from_slice(&piece[..number]),
            }
            continue;
        }
        let message = buffer.clone();
        let (_, content, rest) = first(&message);
        buffer = rest.to_vec();
        let (_, id, content) = first(content);
        let (tag, op, _) = first(content);
        let answers = match tag {
            0x60 => vec![done(0x61, 0)],
            0x63 => answer(&search(op)),
            _ => return,
        };
        for answer in answers {
            if stream.write_all(&tlv(0x30, &[tlv(0x02, id), answer].concat())).is_err() {
                return;
            }
        }
    }
}

fn estate(dir: &Path, from: &str) {
    let manifest = format!(
        "name = \"x\"\npolicy = [\"p.bastide\"]\n[[import]]\nname = \"staff\"\nfrom = \"{from}\"\nbase = \"dc=x\"\ninto = \"staff.ldif\"\nwait = 5\n\
         [[people]]\nfile = \"staff.ldif\"\n[[catalog]]\nfile = \"c.csv\"\n"
    );
    fs::write(dir.join("bastide.toml"), manifest).unwrap();
    fs::write(dir.join("p.bastide"), "kind room\naction read\n").unwrap();
    fs::write(dir.join("c.csv"), "id,parent,kind,name\nquay,,room,Quay\n").unwrap();
}

/// A list of members that comes in parts is asked for to its end.
#[test]
fn lists_in_parts_are_read_to_their_end() {
    let address = directory(Arc::new(|asked: &Search| {
        if asked.whole {
            let mut all: Vec<Vec<u8>> = (0..MEMBERS).map(person).collect();
            all.push(group("member;range=0-999", 0..PART));
            // Another server keeps more.
            all.push(tlv(0x73, &text("ldap://elsewhere.example/dc=y")));
            all.push(done(0x65, 0));
            return all;
        }
        assert_eq!(asked.base, "cn=all,dc=x");
        let from: usize =
            asked.attributes[0].strip_prefix("member;range=").unwrap().strip_suffix("-*").unwrap().parse().unwrap();
        let upto = (from + PART).min(MEMBERS);
        let name = if upto == MEMBERS {
            format!("member;range={from}-*")
        } else {
            format!("member;range={from}-{}", upto - 1)
        };
        vec![group(&name, from..upto), done(0x65, 0)]
    }));
    let dir = tempfile::tempdir().unwrap();
    estate(dir.path(), &address);
    let run = common::run_in(dir.path(), &["import", "--write"]);
    assert_eq!(run.status, 0, "{}", run.whole());
    let told = run.out.contains("which were not asked: 1") && run.out.contains("(ldap://elsewhere.example/dc=y)");
    assert!(told, "{}", run.out);
    let text = fs::read_to_string(dir.path().join("staff.ldif")).unwrap();
    assert_eq!(text.lines().filter(|line| line.starts_with("member: ")).count(), MEMBERS);
    assert!(!text.contains("range"), "{}", &text[..500]);
    let check = common::run_in(dir.path(), &["check"]);
    assert!(check.out.contains("2,500 users") && check.status == 0, "{}", check.whole());
}

/// What is no answer, or a part of one, gives nothing.
#[test]
fn what_is_no_answer_gives_nothing() {
    let cases: Vec<(&str, Arc<Answer>)> = vec![
        (
            "ends with number 999, and there are more",
            Arc::new(|asked: &Search| match asked.whole {
                true => vec![person(0), group("member;range=0-999", 0..PART), done(0x65, 0)],
                // The same part for ever.
                false => vec![group("member;range=0-999", 0..PART), done(0x65, 0)],
            }),
        ),
        (
            "ends with number 999, and there are more",
            Arc::new(|asked: &Search| match asked.whole {
                true => vec![person(0), group("member;range=0-999", 0..PART), done(0x65, 0)],
                false => vec![done(0x65, 0)],
            }),
        ),
        ("an entry that is none", Arc::new(|_: &Search| vec![tlv(0x64, &text("uid=p0,dc=x")), done(0x65, 0)])),
        (
            "an entry that is none",
            Arc::new(|_: &Search| {
                vec![tlv(0x64, &[text("\u{fffd}"), tlv(0x30, &tlv(0x30, b""))].concat()), done(0x65, 0)]
            }),
        ),
        ("came twice", Arc::new(|_: &Search| vec![person(0), person(0), done(0x65, 0)])),
        ("gave a part only", Arc::new(|_: &Search| vec![person(0), done(0x65, 4)])),
        ("is kept by another server", Arc::new(|_: &Search| vec![done(0x65, 10)])),
        ("has no entry `dc=x`", Arc::new(|_: &Search| vec![done(0x65, 32)])),
        ("the directory refused: result 50", Arc::new(|_: &Search| vec![done(0x65, 50)])),
        ("broke off", Arc::new(|_: &Search| vec![person(0)])),
        (
            "it is no name, and no member",
            Arc::new(|_: &Search| {
                vec![
                    entry(
                        "uid=p,dc=x",
                        &[("objectClass", vec!["person".to_string()]), ("uid", vec!["x".repeat(2 << 20)])],
                    ),
                    done(0x65, 0),
                ]
            }),
        ),
        ("it gives nobody", Arc::new(|_: &Search| vec![done(0x65, 0)])),
    ];
    for (told, answer) in cases {
        let dir = tempfile::tempdir().unwrap();
        estate(dir.path(), &directory(answer));
        let run = common::run_in(dir.path(), &["import", "--write"]);
        assert_eq!(run.status, 4, "{told}: {}", run.whole());
        assert!(run.err.contains(told), "{told}: {}", run.err);
        assert!(!dir.path().join("staff.ldif").exists());
    }
}
