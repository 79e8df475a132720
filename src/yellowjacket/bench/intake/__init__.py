"""Files that come in: uploads, folders, a watched inbox, frames that exist already; each to its shot or to a clear line."""
