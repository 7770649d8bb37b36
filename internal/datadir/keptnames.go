package datadir

// NamesDir holds the indexes of names that searches made, so that they are not made anew after
// each start. What lies there can be deleted at any time.
const NamesDir = "names"
