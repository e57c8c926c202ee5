//! Sorted rows as a window sees them.

/// Where partitions and groups of peers begin, and to which each row belongs.
pub struct Layout {
    /// The number of each row's partition.
    pub partition: Vec<usize>,
    /// The first row of each partition, and the number of rows at the end.
    pub partitions: Vec<usize>,
    /// The number of each row's group of peers: the rows of its partition that sort the same.
    pub peer: Vec<usize>,
    /// The first row of each group of peers, and the number of rows at the end.
    pub peers: Vec<usize>,
}

/// The rows of a frame: at most three stretches, from a row to the one before another.
pub type Segments = [(usize, usize); 3];

impl Layout {
    pub fn rows(&self) -> usize {
        self.partition.len()
    }

    /// The rows of a row's partition: the first one, and the one after the last.
    pub fn partition_of(&self, row: usize) -> (usize, usize) {
        let partition = self.partition[row];
        (self.partitions[partition], self.partitions[partition + 1])
    }

    /// The peers of a row, itself among them.
    pub fn peers_of(&self, row: usize) -> (usize, usize) {
        (self.peers[self.peer[row]], self.peers[self.peer[row] + 1])
    }
}
