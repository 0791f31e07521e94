//! Real servers for tests: on loopback, on ports of their own, in temporary folders, and ended with the test.

use std::fs;
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};
use tempfile::TempDir;

/// Whether programs that a test needs are there. Where they are not, it says so; the script that runs every test installs
/// them, and takes their absence for a failure.
#[allow(clippy::print_stderr, reason = "what is left out must not be left out in silence")]
pub fn are_there(programs: &[&str]) -> bool {
    let missing: Vec<&&str> = programs.iter().filter(|program| find(program).is_none()).collect();
    if missing.is_empty() {
        return true;
    }
    let told =
        format!("left out: {missing:?} not installed (tests/systems.sh installs what the tests of systems need)");
    assert!(std::env::var_os("BASTIDE_SYSTEMS").is_none(), "{told}");
    eprintln!("{told}");
    false
}

/// Where a program is, also where servers are kept that nobody types by hand.
pub fn find(program: &str) -> Option<PathBuf> {
    let mut folders: Vec<PathBuf> = std::env::split_paths(&std::env::var_os("PATH")?).collect();
    folders.extend(["/usr/sbin", "/usr/local/sbin", "/sbin"].map(PathBuf::from));
    let mut versions: Vec<PathBuf> = fs::read_dir("/usr/lib/postgresql")
        .map(|list| list.filter_map(|entry| Some(entry.ok()?.path().join("bin"))).collect())
        .unwrap_or_default();
    versions.sort();
    folders.extend(versions);
    folders.into_iter().map(|folder| folder.join(program)).find(|path| path.is_file())
}

pub fn command(program: &str) -> Command {
    Command::new(find(program).unwrap_or_else(|| panic!("{program} is installed")))
}

#[track_caller]
pub fn done(output: Output) -> String {
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    assert!(output.status.success(), "{}{}", text(&output.stdout), text(&output.stderr));
    text(&output.stdout)
}

/// A port that nobody listens on.
pub fn free_port() -> u16 {
    TcpListener::bind(("127.0.0.1", 0)).and_then(|listener| listener.local_addr()).expect("a port is free").port()
}

fn wait_for(port: u16, child: &mut Child, log: &Path) {
    let since = Instant::now();
    while TcpStream::connect(("127.0.0.1", port)).is_err() {
        let ended = child.try_wait().expect("the server can be asked");
        let log = || fs::read_to_string(log).unwrap_or_default();
        assert!(ended.is_none(), "the server ended: {}", log());
        assert!(since.elapsed() < Duration::from_secs(60), "the server does not come up: {}", log());
        std::thread::sleep(Duration::from_millis(50));
    }
}

/// A certificate authority, and the certificate of a server that it vouches for.
pub struct Authority {
    pub certificate: String,
    server: (String, String),
}

impl Authority {
    pub fn new(name: &str) -> Authority {
        let key = rcgen::KeyPair::generate().expect("a key");
        let mut about = rcgen::CertificateParams::new(Vec::new()).expect("an authority");
        about.is_ca = rcgen::IsCa::Ca(rcgen::BasicConstraints::Unconstrained);
        about.key_usages = vec![rcgen::KeyUsagePurpose::KeyCertSign, rcgen::KeyUsagePurpose::CrlSign];
        about.distinguished_name.push(rcgen::DnType::CommonName, name);
        let certificate = about.self_signed(&key).expect("an authority signs itself");
        let issuer = rcgen::Issuer::new(about, key);
        let server_key = rcgen::KeyPair::generate().expect("a key");
        let names = vec!["127.0.0.1".to_string(), "localhost".to_string()];
        let server = rcgen::CertificateParams::new(names).expect("a server").signed_by(&server_key, &issuer);
        let server = (server.expect("it is signed").pem(), server_key.serialize_pem());
        Authority { certificate: certificate.pem(), server }
    }

    /// Puts the certificate and the key of the server into a folder.
    pub fn lay_out(&self, dir: &Path) {
        fs::write(dir.join("server.pem"), &self.server.0).expect("the folder takes it");
        fs::write(dir.join("server.key"), &self.server.1).expect("the folder takes it");
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt;
            fs::set_permissions(dir.join("server.key"), fs::Permissions::from_mode(0o600)).expect("it is ours");
        }
    }
}

/// A directory server.
pub struct Directory {
    pub dir: TempDir,
    pub port: u16,
    pub secret_port: u16,
    child: Child,
}

pub const ROOT: &str = "dc=fourtides,dc=example";
pub const READER: &str = "cn=reader,dc=fourtides,dc=example";
pub const SECRET: &str = "low-tide-7";

impl Directory {
    /// With entries, as LDIF, and the certificate of an authority. Nobody may read it but those who sign in, and no search
    /// gives more than a hundred entries at a time.
    pub fn start(entries: &str, authority: &Authority) -> Directory {
        let dir = tempfile::tempdir().expect("a temporary folder");
        let at = |name: &str| dir.path().join(name).display().to_string();
        authority.lay_out(dir.path());
        fs::create_dir(dir.path().join("data")).expect("a folder");
        let schemas: String = ["core", "cosine", "inetorgperson", "nis"]
            .iter()
            .map(|s| format!("include /etc/ldap/schema/{s}.schema\n"))
            .collect();
        let settings = format!(
            "{schemas}modulepath /usr/lib/ldap\nmoduleload back_mdb\nmoduleload ppolicy\npidfile {}\n\
             TLSCertificateFile {}\nTLSCertificateKeyFile {}\n\
             database mdb\nsuffix \"{ROOT}\"\nrootdn \"cn=admin,{ROOT}\"\nrootpw {SECRET}\ndirectory {}\nmaxsize 1073741824\n\
             index objectClass eq\noverlay ppolicy\n\
             limits dn.exact=\"{READER}\" size.soft=100 size.hard=100 size.prtotal=unlimited\n\
             access to attrs=userPassword by anonymous auth by dn.exact=\"{READER}\" read by * none\n\
             access to * by users read by * none\n",
            at("slapd.pid"),
            at("server.pem"),
            at("server.key"),
            at("data"),
        );
        fs::write(dir.path().join("slapd.conf"), settings).expect("the folder takes it");
        fs::write(dir.path().join("entries.ldif"), entries).expect("the folder takes it");
        done(
            command("slapadd")
                .args(["-q", "-f", &at("slapd.conf"), "-l", &at("entries.ldif")])
                .output()
                .expect("it starts"),
        );
        let (port, secret_port) = (free_port(), free_port());
        let socket = at("ldapi").replace('/', "%2F");
        let addresses = format!("ldap://127.0.0.1:{port}/ ldaps://127.0.0.1:{secret_port}/ ldapi://{socket}/");
        let log = fs::File::create(dir.path().join("log")).expect("a file");
        let mut child = command("slapd")
            .args(["-d", "0", "-f", &at("slapd.conf"), "-h", &addresses])
            .stdout(Stdio::null())
            .stderr(log)
            .spawn()
            .expect("the server starts");
        wait_for(port, &mut child, &dir.path().join("log"));
        Directory { dir, port, secret_port, child }
    }

    /// The address of its socket.
    pub fn socket(&self) -> String {
        format!("ldapi://{}", self.dir.path().join("ldapi").display().to_string().replace('/', "%2F"))
    }

    /// What an independent client of the directory gives.
    #[track_caller]
    pub fn ask(&self, program: &str, args: &[&str], input: &str) -> String {
        use std::io::Write;
        let address = format!("ldap://127.0.0.1:{}", self.port);
        let admin = format!("cn=admin,{ROOT}");
        let mut child = command(program)
            .args(["-x", "-H", &address, "-D", &admin, "-w", SECRET])
            .args(args)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .expect("it starts");
        child.stdin.take().expect("it has one").write_all(input.as_bytes()).expect("it reads");
        done(child.wait_with_output().expect("it ends"))
    }

    /// Ends it.
    pub fn stop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Drop for Directory {
    fn drop(&mut self) {
        self.stop();
    }
}

/// A database server.
pub struct Database {
    pub dir: TempDir,
    pub port: u16,
    child: Child,
}

/// A command that is run as somebody who may run a database server: it refuses to be everybody's master.
fn unprivileged(program: &str) -> Command {
    let path = find(program).unwrap_or_else(|| panic!("{program} is installed"));
    if !rustix::process::getuid().is_root() {
        return Command::new(path);
    }
    let mut command = Command::new("setpriv");
    command.args(["--reuid", "65534", "--regid", "65534", "--clear-groups", "--"]).arg(path);
    command
}

impl Database {
    /// An empty one, that speaks in secret, too; its master is `keeper`.
    pub fn start(authority: &Authority) -> Database {
        let dir = tempfile::tempdir().expect("a temporary folder");
        authority.lay_out(dir.path());
        fs::write(dir.path().join("secret"), SECRET).expect("the folder takes it");
        if rustix::process::getuid().is_root() {
            done(Command::new("chown").args(["-R", "65534:65534"]).arg(dir.path()).output().expect("it starts"));
        }
        let at = |name: &str| dir.path().join(name).display().to_string();
        let mut initdb = unprivileged("initdb");
        initdb.args(["-D", &at("data"), "-U", "keeper", "-A", "scram-sha-256", "-E", "UTF8", "--locale", "C"]);
        done(initdb.args(["--pwfile", &at("secret"), "--no-sync"]).current_dir("/").output().expect("it starts"));
        let port = free_port();
        let log = fs::File::create(dir.path().join("log")).expect("a file");
        let mut child = unprivileged("postgres")
            .args([
                "-D",
                &at("data"),
                "-p",
                &port.to_string(),
                "-k",
                &dir.path().display().to_string(),
                "-c",
                "fsync=off",
            ])
            .args(["-c", "listen_addresses=127.0.0.1", "-c", "ssl=on"])
            .args([
                "-c",
                &format!("ssl_cert_file={}", at("server.pem")),
                "-c",
                &format!("ssl_key_file={}", at("server.key")),
            ])
            .current_dir("/")
            .stdout(Stdio::null())
            .stderr(log)
            .spawn()
            .expect("the server starts");
        wait_for(port, &mut child, &dir.path().join("log"));
        let server = Database { dir, port, child };
        let since = Instant::now();
        while !server.client("postgres", &["-c", "select 1"]).output().is_ok_and(|output| output.status.success()) {
            assert!(since.elapsed() < Duration::from_secs(60), "the server does not come up");
            std::thread::sleep(Duration::from_millis(50));
        }
        server
    }

    fn client(&self, database: &str, args: &[&str]) -> Command {
        let mut client = command("psql");
        client.args([
            "-X",
            "-q",
            "-v",
            "ON_ERROR_STOP=1",
            "-h",
            "127.0.0.1",
            "-p",
            &self.port.to_string(),
            "-U",
            "keeper",
            "-d",
            database,
        ]);
        client.args(args).env("PGPASSWORD", SECRET);
        client
    }

    /// What an independent client says of a script that the server refuses.
    #[track_caller]
    pub fn refuses(&self, database: &str, script: &str) -> String {
        let file = tempfile::NamedTempFile::new().expect("a file");
        fs::write(file.path(), script).expect("it takes it");
        let output = self.client(database, &["-f", &file.path().display().to_string()]).output().expect("it starts");
        assert!(!output.status.success(), "it is refused");
        String::from_utf8_lossy(&output.stderr).into_owned()
    }

    /// What an independent client gives for a script.
    #[track_caller]
    pub fn ask(&self, database: &str, script: &str) -> String {
        let file = tempfile::NamedTempFile::new().expect("a file");
        fs::write(file.path(), script).expect("it takes it");
        done(self.client(database, &["-f", &file.path().display().to_string()]).output().expect("it starts"))
    }
}

impl Drop for Database {
    fn drop(&mut self) {
        // Told to end, it ends those it has started, too.
        let told = Command::new("kill").args(["-INT", &self.child.id().to_string()]).status();
        if told.is_ok_and(|status| status.success()) {
            let _ = self.child.wait();
        } else {
            let _ = self.child.kill();
        }
    }
}
