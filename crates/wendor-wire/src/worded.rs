//! Enums whose variants have a word each: in records, files and on the wire.

/// An enum without fields whose variants have a word each, which is written once. Beside the enum it makes `ALL`, `as_str`, `parse` and
/// `Display`.
///
/// ```
/// wendor_wire::worded! {
///     /// How the tide is.
///     #[derive(Clone, Copy, Debug, PartialEq, Eq)]
///     pub enum Tide {
///         /// At its highest.
///         High = "high",
///         /// At its lowest.
///         Low = "low",
///     }
/// }
/// assert_eq!(Tide::ALL.map(Tide::as_str), ["high", "low"]);
/// assert_eq!((Tide::parse("low"), Tide::parse("ebb")), (Some(Tide::Low), None));
/// assert_eq!(format!("{:<5}|", Tide::Low), "low  |");
/// ```
#[macro_export]
macro_rules! worded {
    ($(#[$meta:meta])* $vis:vis enum $name:ident { $($(#[$of_variant:meta])* $variant:ident = $word:literal),+ $(,)? }) => {
        $(#[$meta])*
        $vis enum $name { $($(#[$of_variant])* $variant),+ }

        impl $name {
            /// Every one.
            pub const ALL: [Self; [$($word),+].len()] = [$(Self::$variant),+];

            /// Its word.
            #[must_use]
            pub const fn as_str(self) -> &'static str {
                match self { $(Self::$variant => $word),+ }
            }

            /// Reads a word.
            #[must_use]
            pub fn parse(text: &str) -> Option<Self> {
                match text {
                    $($word => Some(Self::$variant),)+
                    _ => None,
                }
            }
        }

        impl std::fmt::Display for $name {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.pad(self.as_str())
            }
        }
    };
}
