package pairing

// FormerKey begins the settings that name keys which this site had before.
const FormerKey = "former key "
