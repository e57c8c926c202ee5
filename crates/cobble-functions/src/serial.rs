//! Functions in a serial form go by their names.

/// Writes what has a name among all of its kind as that name.
macro_rules! serialised_by_name {
    ($named:ty, $what:literal) => {
        impl serde::Serialize for $named {
            fn serialize<S: serde::Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
                serializer.serialize_str(self.name())
            }
        }

        impl<'de> serde::Deserialize<'de> for $named {
            fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> std::result::Result<Self, D::Error> {
                let name = <std::borrow::Cow<'de, str>>::deserialize(deserializer)?;
                let found = <$named>::by_name(&name);
                found.ok_or_else(|| serde::de::Error::custom(format!(concat!("there is no ", $what, " {}"), name)))
            }
        }
    };
}

pub(crate) use serialised_by_name;
