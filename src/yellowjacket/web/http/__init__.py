"""What happens to every request and answer, whichever page it is for: the server, headers, errors, files that ship."""
