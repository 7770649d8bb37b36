package datadir

const CopiesDir = "copies"
