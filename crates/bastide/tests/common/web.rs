//! A small server that speaks HTTP/1.1 over TLS on loopback, and says whatever a test wants it to say.

use super::servers::Authority;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpListener;
use std::sync::{Arc, Mutex};

/// A question: its path with what is behind `?`, and who asks.
#[derive(Clone, Debug)]
pub struct Question {
    pub path: String,
    pub bearer: String,
}

/// An answer: a status, headers, and a text, which may be repeated many times over.
pub struct Answer {
    pub status: u16,
    pub headers: Vec<(&'static str, String)>,
    pub text: String,
    pub times: usize,
}

impl Answer {
    pub fn text(text: impl Into<String>) -> Answer {
        Answer { status: 200, headers: Vec::new(), text: text.into(), times: 1 }
    }

    pub fn status(status: u16, headers: Vec<(&'static str, String)>) -> Answer {
        Answer { status, headers, text: String::new(), times: 1 }
    }
}

/// A server, and what it was asked.
pub struct Service {
    pub address: String,
    pub asked: Arc<Mutex<Vec<Question>>>,
}

impl Service {
    /// It answers until the test ends.
    pub fn start(authority: &Authority, mut answer: impl FnMut(&Question) -> Answer + Send + 'static) -> Service {
        let dir = tempfile::tempdir().expect("a temporary folder");
        authority.lay_out(dir.path());
        let certificate = CertificateDer::from_pem_file(dir.path().join("server.pem")).expect("a certificate");
        let key = PrivateKeyDer::from_pem_file(dir.path().join("server.key")).expect("a key");
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let config = rustls::ServerConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .expect("there are versions")
            .with_no_client_auth()
            .with_single_cert(vec![certificate], key)
            .expect("they belong together");
        let config = Arc::new(config);
        let listener = TcpListener::bind(("127.0.0.1", 0)).expect("a port is free");
        let address = format!("https://{}/scim/v2", listener.local_addr().expect("it has one"));
        let asked: Arc<Mutex<Vec<Question>>> = Arc::default();
        let list = asked.clone();
        std::thread::spawn(move || {
            for stream in listener.incoming() {
                let Ok(stream) = stream else { return };
                let connection = rustls::ServerConnection::new(config.clone()).expect("it is set up");
                let mut stream = BufReader::new(rustls::StreamOwned::new(connection, stream));
                // A client that does not believe the server goes away.
                while let Some(question) = question(&mut stream) {
                    list.lock().expect("nobody failed").push(question.clone());
                    if give(stream.get_mut(), &answer(&question)).is_err() {
                        break;
                    }
                }
            }
        });
        Service { address, asked }
    }
}

fn question(stream: &mut impl BufRead) -> Option<Question> {
    let mut line = String::new();
    stream.by_ref().take(1 << 16).read_line(&mut line).ok()?;
    let path = line.split(' ').nth(1)?.to_string();
    let mut bearer = String::new();
    loop {
        let mut header = String::new();
        stream.by_ref().take(1 << 16).read_line(&mut header).ok()?;
        let header = header.trim();
        if header.is_empty() {
            return Some(Question { path, bearer });
        }
        if let Some((name, value)) = header.split_once(": ")
            && name.eq_ignore_ascii_case("authorization")
        {
            bearer = value.trim_start_matches("Bearer ").to_string();
        }
    }
}

fn give(stream: &mut impl Write, answer: &Answer) -> std::io::Result<()> {
    let length = answer.text.len() * answer.times;
    let headers: String = answer.headers.iter().map(|(name, value)| format!("{name}: {value}\r\n")).collect();
    write!(stream, "HTTP/1.1 {} X\r\nContent-Length: {length}\r\n{headers}\r\n", answer.status)?;
    for _ in 0..answer.times {
        stream.write_all(answer.text.as_bytes())?;
    }
    stream.flush()
}
