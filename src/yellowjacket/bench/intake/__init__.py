"""Files that come in: uploads, folders, a watched inbox, frames that exist already; each to its shot or to a clear line.

Entry points: ``importing.import_folder``, ``adopt.adopt_folder``, ``originals.path_of``.
"""
