//! What the private servers share: the user that they run as, a folder that this user can reach, the wait until they are
//! ready, and how they are stopped, those too that a crash has left behind.

use std::fs;
use std::io::Write;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt, chown};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use cobble_records::private_file;
use cobble_types::{Code, Error, Result};
use nix::sys::signal::{Signal, kill};
use nix::unistd::{Pid, User};
use rand::Rng;

/// A kind of server.
pub struct Software {
    pub name: &'static str,
    /// Part of the command line of a running one.
    pub program: &'static str,
    /// Users that it may run as when we are root, best first.
    pub users: &'static [&'static str],
    /// The log says so when calls are taken.
    pub ready: &'static str,
    /// Lines of the log that hold one of these say why it ended.
    pub troubles: &'static [&'static str],
    /// The signals that end it, each with the seconds to wait before the next.
    pub stops: &'static [(Signal, u64)],
}

impl Software {
    pub fn failed(&self, what: impl std::fmt::Display) -> Error {
        Error::new(Code::Storage, format!("the private {} server: {what}", self.name))
    }

    /// Who runs the server: nobody special unless we are root.
    pub fn user(&self) -> Result<Option<User>> {
        if !nix::unistd::geteuid().is_root() {
            return Ok(None);
        }
        match self.users.iter().find_map(|name| User::from_name(name).ok().flatten()) {
            Some(user) => Ok(Some(user)),
            None => Err(self
                .failed("there is no unprivileged user to run it as")
                .hint(format!("create the user {}", self.users[0]))),
        }
    }

    /// The folder for the server's data, which its user owns. The user must be able to walk to it; where that cannot be, the
    /// data goes to a folder of the system's that is named for the wanted one.
    pub fn data_folder(&self, wanted: &Path, user: Option<&User>) -> Result<PathBuf> {
        let io = |e: std::io::Error| self.failed(format!("{}: {e}", wanted.display()));
        fs::create_dir_all(wanted).map_err(io)?;
        let wanted = wanted.canonicalize().map_err(io)?;
        let Some(user) = user else { return Ok(wanted) };
        let walkable = |p: &Path| {
            p.ancestors().skip(1).all(|a| fs::metadata(a).is_ok_and(|m| m.permissions().mode() & 0o001 != 0))
        };
        let data = if walkable(&wanted) {
            wanted
        } else {
            let mark = wanted
                .to_string_lossy()
                .bytes()
                .fold(0xcbf2_9ce4_8422_2325u64, |h, b| (h ^ u64::from(b)).wrapping_mul(0x100_0000_01b3));
            PathBuf::from(format!("/var/lib/cobble-lane/{mark:016x}"))
        };
        let io = |e: std::io::Error| self.failed(format!("{}: {e}", data.display()));
        fs::create_dir_all(&data).map_err(io)?;
        self.give(&data, Some(user))?;
        Ok(data)
    }

    /// Makes the server's user the owner.
    pub fn give(&self, path: &Path, user: Option<&User>) -> Result<()> {
        let Some(user) = user else { return Ok(()) };
        chown(path, Some(user.uid.as_raw()), Some(user.gid.as_raw()))
            .map_err(|e| self.failed(format!("{}: {e}", path.display())))
    }

    /// A file that only the server's user may read.
    pub fn write_private(&self, path: &Path, text: &str, user: Option<&User>) -> Result<()> {
        let io = |e: std::io::Error| self.failed(format!("{}: {e}", path.display()));
        let _ = fs::remove_file(path);
        let mut file = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path).map_err(io)?;
        file.write_all(text.as_bytes()).map_err(io)?;
        self.give(path, user)
    }

    /// Starts the server with its log in the folder, and waits until it takes calls.
    pub fn start(&self, mut command: Command, data: &Path, port_hint: &str) -> Result<PrivateServer> {
        let log = data.join("server.log");
        let out = fs::File::create(&log).map_err(|e| self.failed(format!("{}: {e}", log.display())))?;
        command
            // A terminal's Ctrl+C goes to a whole process group: the server is stopped by us, in order.
            .process_group(0)
            .stdout(out.try_clone().map_err(|e| self.failed(e))?)
            .stderr(out);
        let child = command.spawn().map_err(|e| self.failed(format!("it cannot be started: {e}")))?;
        let mut server = PrivateServer { child, stops: self.stops };
        let began = Instant::now();
        loop {
            let text = fs::read_to_string(&log).unwrap_or_default();
            if let Ok(Some(status)) = server.child.try_wait() {
                let tells = |line: &&str| self.troubles.iter().any(|word| line.contains(word));
                let reason = text.lines().rev().find(tells).unwrap_or("").trim().to_owned();
                let error = self.failed(format!("it ended at once ({status}): {reason}"));
                let in_use = ["Address already in use", "could not bind"].iter().any(|words| text.contains(words));
                let hint = if in_use { port_hint.to_owned() } else { format!("read {}", log.display()) };
                return Err(error.hint(hint));
            }
            if text.contains(self.ready) {
                return Ok(server);
            }
            if began.elapsed() > Duration::from_secs(60) {
                return Err(self.failed("it is not ready after a minute").hint(format!("read {}", log.display())));
            }
            std::thread::sleep(Duration::from_millis(30));
        }
    }

    /// Makes the server's files where there are none, all of them or none: `make` gets a folder that takes its place when it is whole.
    /// One without the mark of that is not thrown away but moved aside, and named.
    pub fn whole(&self, data: &Path, name: &str, make: impl FnOnce(&Path) -> Result<()>) -> Result<Option<PathBuf>> {
        let (own, mark) = (data.join(name), data.join("complete"));
        // What interrupted starts have left. It is never gone on with: what made it may be at work there still.
        let begun = format!("{name}.new-");
        for entry in fs::read_dir(data).map_err(|e| self.failed(e))?.flatten() {
            if entry.file_name().to_string_lossy().starts_with(&begun) {
                let _ = fs::remove_dir_all(entry.path());
            }
        }
        if own.exists() && mark.exists() {
            return Ok(None);
        }
        let aside = match own.exists() {
            false => None,
            true => {
                let now = chrono::Utc::now().format("%Y-%m-%dT%H-%M-%S");
                let aside = data.join(format!("{name}.aside-{now}"));
                fs::rename(&own, &aside).map_err(|e| self.failed(e))?;
                Some(aside)
            }
        };
        let now = chrono::Utc::now().timestamp_micros();
        let fresh = data.join(format!("{begun}{now:x}"));
        make(&fresh)?;
        private_file::write(&mark, b"")?;
        fs::rename(&fresh, &own).map_err(|e| self.failed(e))?;
        fs::File::open(data).and_then(|folder| folder.sync_all()).map_err(|e| self.failed(e))?;
        Ok(aside)
    }

    /// Stops a server that still runs on this data; its process number stands in the first line of a file.
    pub fn stop_left_behind(&self, pid_file: &Path, data: &Path) {
        let Ok(text) = fs::read_to_string(pid_file) else { return };
        let Some(Ok(pid)) = text.lines().next().map(|l| l.trim().parse::<i32>()) else { return };
        // The number may belong to another program by now.
        let is_ours = fs::read_to_string(format!("/proc/{pid}/cmdline"))
            .is_ok_and(|c| c.contains(self.program) && c.contains(&*data.to_string_lossy()));
        if !is_ours {
            return;
        }
        let pid = Pid::from_raw(pid);
        for (signal, patience) in self.stops.iter().chain(&[(Signal::SIGKILL, 2)]) {
            let _ = kill(pid, *signal);
            let began = Instant::now();
            while began.elapsed() < Duration::from_secs(*patience) {
                if kill(pid, None).is_err() {
                    return;
                }
                std::thread::sleep(Duration::from_millis(20));
            }
        }
    }
}

/// A program of the server's, run as its user in its folder, with nothing of our surroundings that would change it.
pub fn command(program: PathBuf, user: Option<&User>, folder: &Path) -> Command {
    let mut command = Command::new(program);
    if let Some(user) = user {
        command.uid(user.uid.as_raw()).gid(user.gid.as_raw());
    }
    command.current_dir(folder).stdin(Stdio::null()).env_clear().env("LC_ALL", "C.UTF-8");
    // Nothing of what the service was started with, such as tokens and secrets, goes to a server.
    for name in ["PATH", "TMPDIR", "LD_LIBRARY_PATH"] {
        if let Some(value) = std::env::var_os(name) {
            command.env(name, value);
        }
    }
    command
}

/// A running server, which ends when this is dropped.
pub struct PrivateServer {
    child: Child,
    stops: &'static [(Signal, u64)],
}

impl Drop for PrivateServer {
    fn drop(&mut self) {
        let pid = Pid::from_raw(self.child.id() as i32);
        for (signal, patience) in self.stops {
            let _ = kill(pid, *signal);
            let began = Instant::now();
            while began.elapsed() < Duration::from_secs(*patience) {
                if !matches!(self.child.try_wait(), Ok(None)) {
                    return;
                }
                std::thread::sleep(Duration::from_millis(20));
            }
        }
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A random secret, kept in a file that only its owner may read.
pub fn secret(path: &Path) -> Result<String> {
    if let Ok(text) = fs::read_to_string(path)
        && !text.trim().is_empty()
    {
        return Ok(text.trim().to_owned());
    }
    let mut rng = rand::rng();
    let text: String = (0..32).map(|_| char::from(rng.sample(rand::distr::Alphanumeric))).collect();
    private_file::write(path, text.as_bytes())?;
    Ok(text)
}
