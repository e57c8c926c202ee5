//! Kinds of functions whose kernels are operators: an enum with an entry for each.

/// An enum of functions: for each its variant, name, other names, arguments in words, what it returns in a sentence, and an
/// example with its answer.
macro_rules! listed_functions {
    (
        $(#[$documentation:meta])*
        $list:ident;
        $($variant:ident, $name:literal, [$($alias:literal),*], $arguments:literal,
            $about:literal,
            $example:literal => $answer:literal;)*
    ) => {
        $(#[$documentation])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
        pub enum $list { $($variant),* }

        impl $list {
            pub const ALL: &[$list] = &[$($list::$variant),*];

            pub fn name(self) -> &'static str {
                match self { $($list::$variant => $name),* }
            }

            /// The function called exactly so.
            fn named(name: &str) -> Option<$list> {
                match name { $($name $(| $alias)* => Some($list::$variant),)* _ => None }
            }

            /// Arguments in words, for error messages and documentation.
            pub fn arguments(self) -> &'static str {
                match self { $($list::$variant => $arguments),* }
            }

            /// What it returns, in a sentence.
            pub fn about(self) -> &'static str {
                match self { $($list::$variant => $about),* }
            }

            /// An example, and the text of what comes out.
            pub fn example(self) -> (&'static str, &'static str) {
                match self { $($list::$variant => ($example, $answer)),* }
            }
        }
    };
}

pub(crate) use listed_functions;
