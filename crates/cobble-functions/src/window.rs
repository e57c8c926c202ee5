//! Functions of a window: what is computed for a row from those around it (SQL:2016 part 2, 6.10). All aggregates are such functions too.

crate::listed::listed_functions! {
    /// A function of a window. Its example is a call over four rows with `v` = 1, 2, 2 and 4, and what comes out for them, nulls left
    /// out.
    Ranking;
    RowNumber, "row_number", [], "",
        "The number of the row in its partition, counted from one.",
        "row_number() OVER (ORDER BY v)" => "1,2,3,4";
    Rank, "rank", [], "",
        "The number of the first row that sorts the same.",
        "rank() OVER (ORDER BY v)" => "1,2,2,4";
    DenseRank, "dense_rank", [], "",
        "The number of the distinct sort value, counted from one.",
        "dense_rank() OVER (ORDER BY v)" => "1,2,2,3";
    PercentRank, "percent_rank", [], "",
        "The rank as a share from 0 to 1.",
        "round(percent_rank() OVER (ORDER BY v))" => "0,0,0,1";
    CumeDist, "cume_dist", [], "",
        "The share of rows that sort no later.",
        "cume_dist() OVER (ORDER BY v)" => "0.25,0.75,0.75,1";
    Ntile, "ntile", [], "buckets",
        "The number of the bucket when the partition is cut into equal ones.",
        "ntile(2) OVER (ORDER BY v)" => "1,1,2,2";
    Lag, "lag", [], "any [, rows [, default]]",
        "The value of the row before, or of one further away.",
        "lag(v) OVER (ORDER BY v)" => "1,2,2";
    Lead, "lead", [], "any [, rows [, default]]",
        "The value of the row behind, or of one further away.",
        "lead(v) OVER (ORDER BY v)" => "2,2,4";
    FirstValue, "first_value", [], "any",
        "The value of the frame's first row.",
        "first_value(v) OVER (ORDER BY v)" => "1,1,1,1";
    LastValue, "last_value", [], "any",
        "The value of the frame's last row.",
        "last_value(v) OVER (ORDER BY v)" => "1,2,2,4";
    NthValue, "nth_value", [], "any, n",
        "The value of the frame's n-th row.",
        "nth_value(v, 2) OVER (ORDER BY v)" => "2,2,2";
}

crate::serial::serialised_by_name!(Ranking, "window function");

impl Ranking {
    /// The function called by this name, in lower case.
    pub fn by_name(name: &str) -> Option<Ranking> {
        Ranking::named(name)
    }

    /// True for functions that give a value of another row, which may be told to pass nulls over.
    pub fn takes_a_value(self) -> bool {
        use Ranking::*;
        matches!(self, Lag | Lead | FirstValue | LastValue | NthValue)
    }
}
