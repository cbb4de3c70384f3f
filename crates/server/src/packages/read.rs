//! Reads what a package says of itself: name, version, architecture, and the C library that it needs.

use constans_wire::agent_package::PackageFormat;
use flate2::read::GzDecoder;
use std::io::{self, Cursor, Read};

/// No more of a .deb's control archive is read, unpacked.
const MAX_CONTROL: u64 = 1024 * 1024;
/// No more of the heads of an .rpm is read: they list its files.
const MAX_HEADS: u64 = 4 * 1024 * 1024;
/// The name that packages of the agent have.
const NAME: &str = "constans-agent";

/// What a package says of itself.
#[derive(Debug, PartialEq, Eq)]
pub struct PackageSays {
    pub format: PackageFormat,
    pub version: semver::Version,
    pub architecture: String,
    /// The oldest C library that it works with.
    pub glibc: String,
}

/// Reads a package of the agent.
///
/// # Errors
///
/// Returns that it is none, and why, in words.
pub fn read(contents: &[u8]) -> Result<PackageSays, String> {
    let (format, fields) = if contents.starts_with(b"!<arch>\n") {
        (PackageFormat::Deb, of_deb(contents)?)
    } else if contents.starts_with(&[0xed, 0xab, 0xee, 0xdb]) {
        (PackageFormat::Rpm, of_rpm(contents)?)
    } else {
        return Err("it is neither a .deb nor an .rpm; packaging/build makes both".to_owned());
    };
    let Fields { name, version, architecture, glibc } = fields;
    if name != NAME {
        return Err(format!("it is a package of {name:?}, and only those of {NAME} are served"));
    }
    let version = semver::Version::parse(&version)
        .map_err(|_| format!("its version {version:?} is none of this product, as 1.2.3"))?;
    let is_word = |text: &str, more: &str| {
        (1..=32).contains(&text.len()) && text.chars().all(|c| c.is_ascii_alphanumeric() || more.contains(c))
    };
    if !is_word(&architecture, "_-") || !is_word(&glibc, ".") || version.to_string().len() > 32 {
        return Err(format!(
            "its version, architecture {architecture:?} or C library {glibc:?} is written unusually"
        ));
    }
    Ok(PackageSays { format, version, architecture, glibc })
}

struct Fields {
    name: String,
    version: String,
    architecture: String,
    glibc: String,
}

/// A .deb is an archive of ar with an archive of tar in it that has the file `control` (deb(5)).
fn of_deb(contents: &[u8]) -> Result<Fields, String> {
    let control = control_of(contents).map_err(|error| format!("it cannot be read as a .deb: {error}"))?;
    let field = |name: &str| {
        control
            .lines()
            .find_map(|line| line.strip_prefix(name)?.strip_prefix(':').map(|value| value.trim().to_owned()))
            .ok_or_else(|| format!("its control file has no field {name}"))
    };
    let depends = field("Depends")?;
    let glibc = depends
        .split(',')
        .find_map(|one| one.trim().strip_prefix("libc6 (>= ")?.strip_suffix(')'))
        .ok_or_else(|| format!("its control file does not say which libc6 it needs: {depends:?}"))?;
    Ok(Fields {
        name: field("Package")?,
        version: field("Version")?,
        architecture: field("Architecture")?,
        glibc: glibc.to_owned(),
    })
}

fn control_of(contents: &[u8]) -> io::Result<String> {
    let mut members = ar::Archive::new(Cursor::new(contents));
    while let Some(member) = members.next_entry() {
        let member = member?;
        if member.header().identifier() != b"control.tar.gz" {
            continue;
        }
        let mut files = tar::Archive::new(GzDecoder::new(member).take(MAX_CONTROL));
        for file in files.entries()? {
            let file = file?;
            if file.path()?.file_name().is_some_and(|name| name == "control") {
                let mut control = String::new();
                file.take(MAX_CONTROL).read_to_string(&mut control)?;
                return Ok(control);
            }
        }
    }
    Err(io::Error::other("it has no control.tar.gz with a file `control`; packaging/build makes one"))
}

fn of_rpm(contents: &[u8]) -> Result<Fields, String> {
    let unreadable = |error: rpm::Error| format!("it cannot be read as an .rpm: {error}");
    let mut heads = io::BufReader::new(Cursor::new(contents).take(MAX_HEADS));
    let says = rpm::PackageMetadata::parse(&mut heads).map_err(unreadable)?;
    let requires = says.get_requires().map_err(unreadable)?;
    let glibc = requires
        .iter()
        .filter_map(|one| one.name.split("(GLIBC_").nth(1)?.split(')').next())
        .max_by_key(|version| version.split('.').map(|part| part.parse().unwrap_or(0)).collect::<Vec<u32>>())
        .ok_or("it does not say which C library it needs")?;
    Ok(Fields {
        name: says.get_name().map_err(unreadable)?.to_owned(),
        version: says.get_version().map_err(unreadable)?.to_owned(),
        architecture: says.get_arch().map_err(unreadable)?.to_owned(),
        glibc: glibc.to_owned(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use flate2::write::GzEncoder;
    use std::io::Write as _;

    fn deb(control: &str) -> Vec<u8> {
        let mut files = tar::Builder::new(GzEncoder::new(Vec::new(), flate2::Compression::fast()));
        let mut header = tar::Header::new_gnu();
        header.set_size(control.len() as u64);
        header.set_cksum();
        files.append_data(&mut header, "./control", control.as_bytes()).unwrap();
        let packed = files.into_inner().unwrap().finish().unwrap();
        let mut members = ar::Builder::new(Vec::new());
        for (name, contents) in [("debian-binary", &b"2.0\n"[..]), ("control.tar.gz", &packed)] {
            let header = ar::Header::new(name.as_bytes().to_vec(), contents.len() as u64);
            members.append(&header, contents).unwrap();
        }
        members.into_inner().unwrap()
    }

    const CONTROL: &str =
        "Package: constans-agent\nVersion: 0.1.0\nArchitecture: amd64\nDepends: libc6 (>= 2.36)\n";

    #[test]
    fn a_deb_says_what_it_is() {
        let says = read(&deb(CONTROL)).unwrap();
        assert_eq!((says.format, says.version.to_string().as_str()), (PackageFormat::Deb, "0.1.0"));
        assert_eq!((says.architecture.as_str(), says.glibc.as_str()), ("amd64", "2.36"));
    }

    #[test]
    fn what_is_no_package_of_the_agent_is_refused_with_the_reason() {
        let refused = |contents: &[u8]| read(contents).unwrap_err();
        assert!(refused(b"#!/bin/sh").contains("neither a .deb nor an .rpm"));
        assert!(refused(b"!<arch>\nnonsense").contains("cannot be read as a .deb"));
        assert!(refused(&[0xed, 0xab, 0xee, 0xdb, 3, 0]).contains("cannot be read as an .rpm"));
        assert!(refused(&deb(&CONTROL.replace("constans-agent", "kiosk-shell"))).contains("\"kiosk-shell\""));
        assert!(
            refused(&deb(&CONTROL.replace("0.1.0", "0.1.0; rm -rf /"))).contains("is none of this product")
        );
        assert!(refused(&deb(&CONTROL.replace("amd64", "amd64'$(id)"))).contains("written unusually"));
        assert!(refused(&deb(&CONTROL.replace("libc6", "musl"))).contains("which libc6"));
    }

    #[test]
    fn a_control_archive_that_unpacks_to_much_is_not_read_to_its_end() {
        let mut packed = GzEncoder::new(Vec::new(), flate2::Compression::best());
        (0..64).for_each(|_| packed.write_all(&[0; 1024 * 1024]).unwrap());
        let packed = packed.finish().unwrap();
        let mut members = ar::Builder::new(Vec::new());
        members
            .append(&ar::Header::new(b"control.tar.gz".to_vec(), packed.len() as u64), &packed[..])
            .unwrap();
        assert!(read(&members.into_inner().unwrap()).unwrap_err().contains("cannot be read as a .deb"));
    }
}
