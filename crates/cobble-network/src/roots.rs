//! Which files of this machine connections may use. The operator names folders; whatever a path says, and whatever links lie on its way, the
//! file that it leads to must be in one of them. Without any, as in the command's own engine, everything that the process may read is allowed.

use std::fs::File;
use std::io::{self, Read};
use std::os::fd::AsRawFd;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use cobble_types::{Code, Error, Result};

/// Folders and files that are allowed, and those within them that are not: of two that hold a file, the narrower one counts.
#[derive(Debug, Default)]
pub struct Roots {
    allowed: Vec<PathBuf>,
    withheld: Vec<PathBuf>,
}

static ROOTS: OnceLock<Roots> = OnceLock::new();

impl Roots {
    /// Those of these that are there, by their real paths.
    pub fn new(allowed: &[PathBuf], withheld: &[PathBuf]) -> Roots {
        let real = |paths: &[PathBuf]| paths.iter().filter_map(|path| path.canonicalize().ok()).collect();
        Roots { allowed: real(allowed), withheld: real(withheld) }
    }

    /// From now on these are the roots of this process. They are set once.
    pub fn set(self) {
        let _ = ROOTS.set(self);
    }

    /// Whether a real path, one without links, may be used.
    fn allows(&self, real: &Path) -> bool {
        let narrowest = |among: &[PathBuf]| {
            among.iter().filter(|root| real.starts_with(root)).map(|root| root.components().count()).max()
        };
        narrowest(&self.allowed)
            .is_some_and(|allowed| narrowest(&self.withheld).is_none_or(|withheld| withheld < allowed))
    }
}

fn allows(real: &Path) -> bool {
    ROOTS.get().is_none_or(|roots| roots.allows(real))
}

fn refused(path: &Path) -> Error {
    Error::new(Code::NotAllowed, format!("{} is outside of the folders that the service may use", path.display()))
        .hint("move it there, or start the service with another one: cobble up --root FOLDER")
}

/// The path without links, if what is there may be used.
///
/// # Errors
/// Nothing is there, or it is elsewhere.
pub fn real(path: &Path) -> io::Result<PathBuf> {
    let real = path.canonicalize()?;
    if allows(&real) { Ok(real) } else { Err(io::Error::new(io::ErrorKind::PermissionDenied, refused(path).message)) }
}

/// The same as an error of ours that names the connection. Of what is not there yet the nearest folder counts that is.
pub fn checked(connection: &str, path: &Path) -> Result<PathBuf> {
    let or_here = |path: &Path| if path.as_os_str().is_empty() { PathBuf::from(".") } else { path.to_owned() };
    let nearest = path.ancestors().find_map(|there| or_here(there).canonicalize().ok());
    match nearest {
        Some(real) if allows(&real) => Ok(path.canonicalize().unwrap_or_else(|_| path.to_owned())),
        None if ROOTS.get().is_none() => Ok(path.to_owned()),
        _ => {
            let error = refused(path);
            Err(Error { message: format!("connection {connection}: {}", error.message), ..error })
        }
    }
}

/// Opens a regular file for reading. What has been opened is looked at, so that no link that changes meanwhile leads elsewhere; a pipe or
/// a device is not waited for.
pub fn open(path: &Path) -> io::Result<File> {
    let real = real(path)?;
    if !std::fs::metadata(&real)?.is_file() {
        return Err(io::Error::other("it is no regular file"));
    }
    let file = File::open(&real)?;
    let opened = std::fs::read_link(format!("/proc/self/fd/{}", file.as_raw_fd())).unwrap_or(real);
    if !allows(&opened) {
        return Err(io::Error::new(io::ErrorKind::PermissionDenied, refused(path).message));
    }
    match file.metadata()?.is_file() {
        true => Ok(file),
        false => Err(io::Error::other("it is no regular file")),
    }
}

/// The whole of a small file, on a thread where it may wait.
///
/// # Errors
/// It cannot be opened, or is larger than so many bytes.
pub fn read(path: &Path, most: u64) -> io::Result<Vec<u8>> {
    crate::threads::may_wait(|| {
        let file = open(path)?;
        let mut bytes = Vec::new();
        file.take(most + 1).read_to_end(&mut bytes)?;
        if bytes.len() as u64 > most {
            return Err(io::Error::other(format!("it is larger than {} KiB", most >> 10)));
        }
        Ok(bytes)
    })
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use super::*;

    #[test]
    fn the_narrower_of_two_folders_counts() {
        let folder = tempfile::tempdir().unwrap();
        let place = |name: &str| folder.path().join(name);
        for name in ["data", "data/own", "data/own/demo", "data_too"] {
            std::fs::create_dir(place(name)).unwrap();
        }
        let roots = Roots::new(&[place("data"), place("data/own/demo"), place("not there")], &[place("data/own")]);
        let allows = |name: &str| roots.allows(&place(name));
        assert!(allows("data") && allows("data/a.csv") && allows("data/own/demo/b.csv"));
        assert!(!allows("data/own") && !allows("data/own/key") && !allows("data_too/a.csv") && !allows(""));
        assert!(!Roots::default().allows(Path::new("/")));
    }

    #[test]
    fn only_regular_files_are_opened_and_links_are_followed_to_their_ends() {
        let folder = tempfile::tempdir().unwrap();
        let place = |name: &str| folder.path().join(name);
        std::fs::write(place("a"), "tide").unwrap();
        symlink(place("a"), place("link")).unwrap();
        symlink(place("nowhere"), place("dangling")).unwrap();
        let pipe = std::process::Command::new("mkfifo").arg(place("pipe")).status().unwrap();
        assert!(pipe.success());
        assert_eq!(read(&place("link"), 10).unwrap(), b"tide");
        assert!(read(&place("a"), 3).unwrap_err().to_string().contains("larger than"));
        for bad in ["dangling", "pipe", "nothing", ""] {
            assert!(open(&place(bad)).is_err(), "{bad}");
        }
    }
}
