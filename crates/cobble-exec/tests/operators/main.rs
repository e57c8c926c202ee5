//! Operators against a few lines of plain code that say what each must do, over random small tables full of nulls and
//! repeated keys. Physical plans are made by hand, so that every algorithm and build side is reached.

mod aggregates;
mod joins;
mod sorting;
mod support;
mod writes;
