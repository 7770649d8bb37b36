package rules

// HoldSetting is the setting that says why nothing is removed.
const HoldSetting = "removal held"
