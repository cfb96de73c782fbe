//! The parts that Wendor is built of, as its lock files (`Cargo.lock`, `console/package-lock.json`) name them.

use std::collections::BTreeMap;
use std::path::Path;

use anyhow::Context;
use cyclonedx_bom::external_models::uri::Purl;
use cyclonedx_bom::models::bom::Bom;
use cyclonedx_bom::models::component::{Classification, Component, Components};
use cyclonedx_bom::models::hash::{Hash, HashAlgorithm, HashValue, Hashes};
use serde::Deserialize;

/// Licences that parts of the console may have; those of crates are looked at by `cargo deny`, which knows their texts.
const LICENCES: [&str; 12] = [
    "MIT",
    "ISC",
    "Apache-2.0",
    "BSD-2-Clause",
    "BSD-3-Clause",
    "0BSD",
    "MPL-2.0",
    "OFL-1.1",
    "BlueOak-1.0.0",
    "Python-2.0",
    "(MIT OR CC0-1.0)",
    "CC-BY-4.0",
];

/// Where a part is from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Origin {
    /// crates.io.
    Crate,
    /// npm.
    Package,
}

/// A crate or package that is shipped, with its licence.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Part {
    /// From where.
    pub origin: Origin,
    /// In its registry.
    pub name: String,
    /// Exactly the one in the lock file.
    pub version: String,
    /// What it is known by: a SHA-256 in hexadecimal, or the integrity that npm writes.
    pub known_by: Option<String>,
    /// Its licence, where the lock file says it.
    pub licence: Option<String>,
    /// Why it must not be there, as far as the lock file tells.
    pub fault: Option<String>,
}

#[derive(Deserialize)]
struct PackageLock {
    packages: BTreeMap<String, Package>,
}

#[derive(Deserialize)]
struct Package {
    version: Option<String>,
    integrity: Option<String>,
    license: Option<String>,
    resolved: Option<String>,
    #[serde(default)]
    link: bool,
}

/// Reads the lock files of the tree at `root`.
///
/// # Errors
/// When one cannot be read.
pub fn read(root: &Path) -> anyhow::Result<Vec<Part>> {
    let cargo = root.join("Cargo.lock");
    let npm = root.join("console/package-lock.json");
    let lock = cargo_lock::Lockfile::load(&cargo).with_context(|| format!("{}", cargo.display()))?;
    let text = std::fs::read_to_string(&npm).with_context(|| format!("{}", npm.display()))?;
    let packages: PackageLock = serde_json::from_str(&text).with_context(|| format!("{}", npm.display()))?;
    Ok(lock
        .packages
        .iter()
        .filter_map(of_crate)
        .chain(packages.packages.iter().filter_map(|(path, package)| of_package(path, package)))
        .collect())
}

/// Nothing for our own crates, which have no source.
fn of_crate(package: &cargo_lock::Package) -> Option<Part> {
    let source = package.source.as_ref()?;
    let known_by = package.checksum.as_ref().map(ToString::to_string);
    let fault = match (source.is_default_registry(), &known_by) {
        (false, _) => Some(format!("is from {source}, not from crates.io")),
        (true, None) => Some("has no checksum".to_owned()),
        (true, Some(_)) => None,
    };
    let (name, version) = (package.name.to_string(), package.version.to_string());
    Some(Part { origin: Origin::Crate, name, version, known_by, licence: None, fault })
}

fn of_package(path: &String, package: &Package) -> Option<Part> {
    let (_, name) = path.rsplit_once("node_modules/")?;
    let is_elsewhere = package.resolved.as_ref().is_some_and(|at| !at.starts_with("https://registry.npmjs.org/"));
    let licence = package.license.clone();
    let fault = match (package.link || is_elsewhere, &package.integrity, licence.as_deref()) {
        (true, _, _) => Some("is not from npm's registry".to_owned()),
        (false, None, _) => Some("has no integrity".to_owned()),
        (false, Some(_), None) => Some("says no licence".to_owned()),
        (false, Some(_), Some(licence)) if !LICENCES.contains(&licence) => {
            Some(format!("has the licence {licence}, which nobody has looked at"))
        }
        (false, Some(_), Some(_)) => None,
    };
    Some(Part {
        origin: Origin::Package,
        name: name.to_owned(),
        version: package.version.clone().unwrap_or_default(),
        known_by: package.integrity.clone(),
        licence,
        fault,
    })
}

/// What must not be there, in words.
#[must_use]
pub fn faults(parts: &[Part]) -> Vec<String> {
    let line = |part: &Part| part.fault.as_ref().map(|fault| format!("{} {} {fault}", part.name, part.version));
    parts.iter().filter_map(line).collect()
}

/// The list as a CycloneDX document in JSON.
///
/// # Errors
/// When a name or version has no form there.
pub fn bom(parts: &[Part]) -> anyhow::Result<String> {
    let component = |part: &Part| -> anyhow::Result<Component> {
        let kind = match part.origin {
            Origin::Crate => "cargo",
            Origin::Package => "npm",
        };
        let purl = Purl::new(kind, &part.name, &part.version)?;
        let mut component = Component::new(Classification::Library, &part.name, &part.version, Some(purl.to_string()));
        component.purl = Some(purl);
        let sum = part.known_by.clone().filter(|_| part.origin == Origin::Crate);
        component.hashes = sum.map(|sum| Hashes(vec![Hash { alg: HashAlgorithm::SHA_256, content: HashValue(sum) }]));
        Ok(component)
    };
    let components = parts.iter().map(component).collect::<anyhow::Result<Vec<_>>>()?;
    let bom = Bom { components: Some(Components(components)), serial_number: None, ..Bom::default() };
    let mut text = Vec::new();
    bom.output_as_json_v1_4(&mut text)?;
    Ok(String::from_utf8(text)?)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn root() -> std::path::PathBuf {
        Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
    }

    /// What the tree is built of now may be there.
    #[test]
    fn every_part_is_from_where_it_may_be() {
        assert_eq!(faults(&read(&root()).unwrap()), Vec::<String>::new());
    }

    #[test]
    fn the_list_has_every_part_by_its_address() {
        let parts = read(&root()).unwrap();
        let list: serde_json::Value = serde_json::from_str(&bom(&parts).unwrap()).unwrap();
        assert_eq!((&list["bomFormat"], &list["specVersion"]), (&"CycloneDX".into(), &"1.4".into()));
        let listed = list["components"].as_array().unwrap();
        assert_eq!(listed.len(), parts.len());
        let purls: Vec<&str> = listed.iter().filter_map(|part| part["purl"].as_str()).collect();
        assert!(purls.iter().any(|purl| purl.starts_with("pkg:cargo/actix-web@")));
        assert!(purls.iter().any(|purl| purl.starts_with("pkg:npm/vue@")));
    }

    #[rstest]
    #[case::elsewhere(
        r#"{"version":"1.0.0","integrity":"sha512-x","license":"MIT","resolved":"git+ssh://git@somewhere"}"#,
        "not from npm"
    )]
    #[case::unknown(r#"{"version":"1.0.0","license":"MIT"}"#, "no integrity")]
    #[case::no_licence(r#"{"version":"1.0.0","integrity":"sha512-x"}"#, "says no licence")]
    #[case::another_licence(r#"{"version":"1.0.0","integrity":"sha512-x","license":"GPL-3.0-only"}"#, "GPL-3.0-only")]
    fn what_must_not_be_there_is_named(#[case] package: &str, #[case] told: &str) {
        let package: Package = serde_json::from_str(package).unwrap();
        let part = of_package(&"node_modules/@gull/feather".to_owned(), &package).unwrap();
        assert!(faults(&[part])[0].contains(told));
    }
}
