//! The lists of the registry: an enum for each kind of function, with a line for each function that names the constant which says
//! all about it. In a serial form functions go by their names.

/// An enum of functions with the entry of each, which has a `name` and `aliases`.
macro_rules! registered {
    (
        $(#[$documentation:meta])*
        $list:ident of $entry:ty, $kernel:ty, $what:literal;
        $($variant:ident => $path:path;)*
    ) => {
        $(#[$documentation])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
        pub enum $list { $($variant),* }

        impl $list {
            pub const ALL: &[$list] = &[$($list::$variant),*];

            /// All that is known about the function.
            pub fn entry(self) -> &'static $entry {
                static ENTRIES: &[$entry] = &[$($path),*];
                &ENTRIES[self as usize]
            }

            pub fn name(self) -> &'static str {
                self.entry().name
            }

            /// The first overload that takes arguments of these types.
            pub fn overload(
                self,
                arguments: impl IntoIterator<Item = cobble_types::SqlType>,
            ) -> Option<crate::Resolved<$kernel>> {
                self.entry().resolve(&arguments.into_iter().map(crate::Given::of).collect::<Vec<_>>())
            }

            /// The function called by this name, in lower case.
            pub fn by_name(name: &str) -> Option<$list> {
                static BY_NAME: std::sync::LazyLock<std::collections::HashMap<&'static str, $list>> =
                    std::sync::LazyLock::new(|| {
                        let names = $list::ALL.iter().flat_map(|function| {
                            let entry = function.entry();
                            std::iter::once(&entry.name).chain(entry.aliases).map(|name| (*name, *function))
                        });
                        names.collect()
                    });
                BY_NAME.get(name).copied()
            }
        }

        impl serde::Serialize for $list {
            fn serialize<S: serde::Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
                serializer.serialize_str(self.name())
            }
        }

        impl<'de> serde::Deserialize<'de> for $list {
            fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> std::result::Result<Self, D::Error> {
                let name = <std::borrow::Cow<'de, str>>::deserialize(deserializer)?;
                let found = <$list>::by_name(&name);
                found.ok_or_else(|| serde::de::Error::custom(format!(concat!("there is no ", $what, " {}"), name)))
            }
        }
    };
}

pub(crate) use registered;
