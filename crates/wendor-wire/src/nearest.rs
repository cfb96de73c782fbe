//! What someone probably meant who wrote a name that does not exist.

/// The longest text that is compared, in bytes.
const LONGEST: usize = 128;

/// Which of `candidates` someone who wrote `wanted` probably meant; none when nothing is near.
///
/// Near means at most a third of the letters changed, added, left out or swapped (optimal string alignment distance),
/// but always up to two.
///
/// ```
/// let routes = ["night-sailings", "manifests"];
/// assert_eq!(wendor_wire::nearest::nearest("night-sailing", routes), Some("night-sailings"));
/// assert_eq!(wendor_wire::nearest::nearest("weather", routes), None);
/// ```
pub fn nearest<'a>(wanted: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    // A very long text would cost time squared and cannot be near a name of at most 64 characters.
    if wanted.len() > LONGEST {
        return None;
    }
    let allowed = (wanted.chars().count() / 3).max(2);
    candidates
        .into_iter()
        .map(|candidate| (strsim::osa_distance(wanted, candidate), candidate))
        .filter(|(distance, _)| *distance <= allowed)
        .min()
        .map(|(_, candidate)| candidate)
}
