//! A cluster on this machine: a scheduler and two executors give what one process gives, also where one of them ends.

mod common;

use bastide_testkit::storage::{BUCKET, ID, SECRET, Storage};
use common::{DAY, demo, lay_out, main_program, program, run};
use std::io::{BufRead, BufReader};
use std::net::TcpListener;
use std::path::Path;
use std::process::{Child, Command, Output, Stdio};
use std::sync::atomic::{AtomicU16, Ordering};
use std::time::{Duration, Instant};

/// A process that is ended with the test.
struct Server(Child);

impl Drop for Server {
    fn drop(&mut self) {
        // It may have ended already.
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Ports of this machine that nobody listens on, below those that the system gives to whoever connects.
fn ports<const N: usize>() -> [u16; N] {
    static NEXT: AtomicU16 = AtomicU16::new(0);
    let first = 20_000 + (std::process::id() % 9_000) as u16;
    std::array::from_fn(|_| {
        loop {
            let port = first + NEXT.fetch_add(1, Ordering::Relaxed);
            if TcpListener::bind(("127.0.0.1", port)).is_ok() {
                break port;
            }
        }
    })
}

/// What a process gives until it ends. One that does not end is a failure, and no reason to wait for ever.
fn ended(child: Child, what: &str) -> Output {
    let id = child.id();
    let (sender, receiver) = std::sync::mpsc::channel();
    std::thread::spawn(move || sender.send(child.wait_with_output()));
    match receiver.recv_timeout(Duration::from_secs(90)) {
        Ok(output) => output.expect("it has ended"),
        Err(_) => {
            let _ = Command::new("kill").arg(id.to_string()).status();
            panic!("no answer: {what}");
        }
    }
}

/// Asks a cluster.
fn asked(dir: &Path, cluster: &str, question: &str) -> Child {
    let mut command = Command::new(program());
    command.arg("--estate").arg(dir).args(["--on", DAY, "--format", "csv", "--cluster", cluster, "--", question]);
    command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().expect("it starts")
}

fn server(args: &[&str]) -> Server {
    let mut command = Command::new(program());
    Server(command.args(args).stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("it starts"))
}

fn executor(scheduler: &str) -> Server {
    let [port, tasks] = ports().map(|port| port.to_string());
    server(&["executor", "--scheduler", scheduler, "--port", &port, "--tasks-port", &tasks, "--tasks", "1"])
}

fn ask(dir: &Path, cluster: &str, question: &str) -> String {
    let output = ended(asked(dir, cluster, question), question);
    assert!(output.status.success(), "{question}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// An estate in parts that takes a while.
fn parts() -> tempfile::TempDir {
    let rules = "kind room\nkind box in room\naction read\naction open on box needs read\nattribute team of user: text\n\
                 attribute team of box: text\nrule teams { because \"Own.\" who anyone may read, open what box where \
                 user.team = resource.team }\nrule rooms { because \"Open.\" who anyone may read what room }\n";
    let manifest = "name = \"Parts\"\npolicy = [\"rules.bastide\"]\n[[people]]\nfile = \"people.csv\"\n[[catalog]]\nfile = \
                    \"catalog.csv\"\n[[catalog]]\nfile = \"parts/*.csv\"\nparts = true\n";
    let people: String = (0..300).map(|i| format!("u{i},t{}\n", i % 7)).collect();
    let part = |of: usize| {
        let row = |i: usize| format!("b{of}-{i},r{},box,Box {i},t{}\n", of % 2, i % 9);
        "id,parent,kind,name,team\n".to_string() + &(0..2000).map(row).collect::<String>()
    };
    let names: Vec<String> = (0..12).map(|of| format!("parts/{of:02}.csv")).collect();
    let mut files = vec![
        ("bastide.toml", manifest.to_string()),
        ("rules.bastide", rules.to_string()),
        ("people.csv", format!("id,team\n{people}")),
        ("catalog.csv", "id,parent,kind,name,team\nr0,,room,Quay,\nr1,,room,Mole,\n".to_string()),
    ];
    files.extend(names.iter().enumerate().map(|(of, name)| (name.as_str(), part(of))));
    lay_out(&files)
}

/// A scheduler that listens, with its address, and two executors that run.
fn cluster() -> (String, Server, [Server; 2]) {
    let [port] = ports();
    let address = format!("127.0.0.1:{port}");
    let scheduler = server(&["scheduler", "--listen", &address]);
    // Until it listens.
    let begun = Instant::now();
    while std::net::TcpStream::connect(&address).is_err() {
        assert!(begun.elapsed() < Duration::from_secs(60), "the scheduler does not listen");
        std::thread::sleep(Duration::from_millis(50));
    }
    let mut executors = [(); 2].map(|()| executor(&address));
    for server in &mut executors {
        std::thread::sleep(Duration::from_millis(500));
        assert!(server.0.try_wait().expect("it can be asked").is_none(), "an executor does not run");
    }
    (address, scheduler, executors)
}

/// What the main program gives of a matrix, with this one on its path.
fn matrix(main: &Path, dir: &Path, args: &[&str]) -> Output {
    let mut command = Command::new(main);
    command.arg("--quiet").arg("--estate").arg(dir).args(["matrix", "--on", DAY]).args(args);
    let own = program();
    let folder = own.parent().expect("it lies in a folder");
    command.env("PATH", folder).stdout(Stdio::piped()).stderr(Stdio::piped());
    ended(command.spawn().expect("it starts"), &args.join(" "))
}

/// Totals as JSON, without what is another each time.
fn counted(output: &Output) -> serde_json::Value {
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let mut value: serde_json::Value = serde_json::from_slice(&output.stdout).expect("it is JSON");
    let fields = value.as_object_mut().expect("an object");
    for of_this_time in ["about", "seconds", "peak_bytes"] {
        fields.remove(of_this_time).unwrap_or_else(|| panic!("no {of_this_time}"));
    }
    value
}

/// What the main program counts it counts by a cluster, too: of a catalog in parts, of one that is whole.
#[test]
fn totals_of_a_matrix_are_counted_by_a_cluster() {
    let Some(main) = main_program() else {
        // There is nobody who could ask: the cluster itself says what it cannot count.
        let refused = run(demo().path(), &["tallies", "nothing", "--cluster", "127.0.0.1:1"]);
        assert_eq!(refused.status.code(), Some(2), "{}", String::from_utf8_lossy(&refused.stderr));
        return;
    };
    let (address, _scheduler, _executors) = cluster();
    let (demo, parts) = (demo(), parts());
    for dir in [demo.path(), parts.path()] {
        let json = ["--summary", "--format", "json"];
        let alone = counted(&matrix(&main, dir, &json));
        assert!(alone["profiles"].as_u64().is_some_and(|profiles| profiles > 5), "{alone}");
        assert_eq!(counted(&matrix(&main, dir, &[&json[..], &["--cluster", &address]].concat())), alone);
        for by in ["users", "resources"] {
            let alone = matrix(&main, dir, &["--totals", by]);
            let told = matrix(&main, dir, &["--totals", by, "--cluster", &address]);
            assert!(told.status.success(), "{}", String::from_utf8_lossy(&told.stderr));
            assert_eq!(String::from_utf8_lossy(&told.stdout), String::from_utf8_lossy(&alone.stdout), "{by}");
        }
    }
    // What is wrong is said once, and no number is given.
    let [nobody] = ports();
    let refused = matrix(&main, demo.path(), &["--summary", "--cluster", &format!("127.0.0.1:{nobody}")]);
    let told = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(refused.status.code() == Some(4) && refused.stdout.is_empty(), "{told}");
    assert_eq!(told.lines().filter(|line| line.starts_with("error: no scheduler answers")).count(), 1, "{told}");
    let refused = matrix(&main, demo.path(), &["--cluster", &address]);
    assert_eq!(refused.status.code(), Some(2));
}

#[test]
fn a_cluster_gives_what_one_process_gives() {
    let (scheduler, _scheduler, [_first, mut second]) = cluster();
    let (demo, parts) = (demo(), parts());
    let questions = [
        "select action, decision, count(*) as n from access group by action, decision order by 1, 2",
        "select u.kind, a.reason, count(*) as n from access a join users u on a.user = u.id group by 1, 2 order by 1, 2",
        "select user, resource, action from access where decision = 'allowed' and user in ('u1', 'bruno.tavares') order by 1, 2, 3",
        "select count(*) as n from access where resource not in (select resource from access where decision = 'allowed')",
    ];
    for dir in [demo.path(), parts.path()] {
        for question in questions {
            let alone = run(dir, &["--format", "csv", "--", question]);
            assert_eq!(ask(dir, &scheduler, question), String::from_utf8_lossy(&alone.stdout), "{question}");
        }
    }
    // Functions of the estate go along.
    let question = "select label, label_at_least(label, 'restricted') as high, count(*) as n from resources where under(id, \
                    'Exhibitions') group by 1, 2 order by 1";
    let alone = run(demo.path(), &["--format", "csv", "--", question]);
    assert_eq!(ask(demo.path(), &scheduler, question), String::from_utf8_lossy(&alone.stdout));
    // What is wrong comes back as it is said on one machine.
    let refused =
        run(demo.path(), &["--cluster", &scheduler, "--", "select label_at_least(label, 'x') from resources"]);
    let told = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(refused.status.code() == Some(2) && told.contains("no scale of the estate has the step `x`"), "{told}");
    // One executor ends in the middle: the other does its tasks.
    let question = questions[0];
    let alone = run(parts.path(), &["--format", "csv", "--", question]);
    let asking = asked(parts.path(), &scheduler, question);
    std::thread::sleep(Duration::from_millis(400));
    second.0.kill().expect("it runs");
    let output = ended(asking, "while an executor ends");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    assert_eq!(String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&alone.stdout));
    // And where it is gone already.
    assert_eq!(ask(parts.path(), &scheduler, question), String::from_utf8_lossy(&alone.stdout));
    // A scheduler that is not there.
    let [nobody] = ports();
    let refused = run(demo.path(), &["--cluster", &format!("127.0.0.1:{nobody}"), "--", "select count(*) from users"]);
    let told = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(refused.status.code() == Some(4) && told.contains("no scheduler answers at `127.0.0.1:"), "{told}");
}

/// Parts that lie in a storage are read there by whoever is given them: by one process, and by executors.
#[test]
fn parts_in_a_storage_are_read_where_they_are_decided_on() {
    let files = parts();
    let questions = [
        "select action, decision, count(*) as n from access group by action, decision order by 1, 2",
        "select user, resource, action from access where decision = 'allowed' and user = 'u1' order by 1, 2, 3",
    ];
    let wanted = questions.map(|question| run(files.path(), &["--format", "csv", "--", question]));
    let dir = tempfile::tempdir().expect("a temporary folder");
    let bucket = dir.path().join("bucket");
    std::fs::rename(files.path().join("parts"), &bucket).expect("on one disk");
    let Some(storage) = Storage::start(&bucket, None) else { return };
    let manifest = files.path().join("bastide.toml");
    let text = std::fs::read_to_string(&manifest).expect("a manifest");
    let text = text.replace("parts/*.csv", &format!("s3://{BUCKET}/*.csv"));
    std::fs::write(&manifest, format!("{text}{}id = \"file:id\"\nsecret = \"file:secret\"\n", storage.section()))
        .expect("a file");
    for (name, text) in [("id", ID), ("secret", SECRET)] {
        use std::io::Write;
        use std::os::unix::fs::OpenOptionsExt;
        let mut options = std::fs::OpenOptions::new();
        let file = options.write(true).create(true).mode(0o600).open(files.path().join(name));
        file.expect("a file").write_all(text.as_bytes()).expect("it takes it");
    }
    let allowed = format!("http://127.0.0.1:{}", storage.port());
    let with = |command: &mut Command| -> Child {
        command
            .env("BASTIDE_STORAGE", &allowed)
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .expect("it starts")
    };
    let [port, first, second, third, fourth] = ports();
    let scheduler = format!("127.0.0.1:{port}");
    let _scheduler = server(&["scheduler", "--listen", &scheduler]);
    std::thread::sleep(Duration::from_millis(500));
    let executor = |port: u16, tasks: u16| {
        let mut command = Command::new(program());
        let ports = [port.to_string(), tasks.to_string()];
        command.args([
            "executor",
            "--scheduler",
            &scheduler,
            "--port",
            &ports[0],
            "--tasks-port",
            &ports[1],
            "--tasks",
            "1",
        ]);
        Server(with(&mut command))
    };
    let _executors = [executor(first, second), executor(third, fourth)];
    for (question, wanted) in questions.into_iter().zip(&wanted) {
        let wanted = String::from_utf8_lossy(&wanted.stdout);
        assert!(wanted.lines().count() > 3, "{wanted}");
        for cluster in [None, Some(scheduler.as_str())] {
            let mut command = Command::new(program());
            command.arg("--estate").arg(files.path()).args(["--on", DAY, "--format", "csv"]);
            command.args(cluster.map(|cluster| ["--cluster", cluster]).into_iter().flatten()).args(["--", question]);
            let output = ended(with(&mut command), question);
            assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
            assert_eq!(String::from_utf8_lossy(&output.stdout), wanted, "{question} {cluster:?}");
        }
    }
    // Looked at once by each who asks; then read by whoever decides.
    let said = storage.asked();
    assert!(said.iter().all(|line| line.starts_with("signed ")), "{said:?}");
    assert!(said.iter().filter(|line| line.contains("/11.csv")).count() >= 6, "{said:?}");
    // A cluster that was not allowed to ask the storage says so.
    let refused = run(files.path(), &["--", questions[0]]);
    let told = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(refused.status.code() == Some(3) && told.contains("set `BASTIDE_STORAGE="), "{told}");
}

/// An executor waits for its scheduler, and says so.
#[test]
fn an_executor_without_a_scheduler_says_that_it_waits() {
    let [nobody, port, tasks] = ports().map(|port| port.to_string());
    let mut command = Command::new(program());
    command.args(["executor", "--scheduler", &format!("127.0.0.1:{nobody}"), "--port", &port, "--tasks-port", &tasks]);
    let mut server = Server(command.stdout(Stdio::null()).stderr(Stdio::piped()).spawn().expect("it starts"));
    let mut lines = BufReader::new(server.0.stderr.take().expect("it is piped")).lines().map_while(Result::ok);
    assert_eq!(lines.next(), Some(format!("executor at 127.0.0.1:{port}")));
    let said = lines.next().unwrap_or_default();
    assert!(said.starts_with(&format!("note: no scheduler answers at `127.0.0.1:{nobody}`")), "{said}");
    assert!(said.ends_with("it is waited for"), "{said}");
}
