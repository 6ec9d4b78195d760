package durable

// foldersAreSynced: there is no such call here, and none is needed.
const foldersAreSynced = false

func cannotSyncFolders(error) bool { return false }
