"""Static files under hashed names, module imports included."""

from __future__ import annotations

from whitenoise.storage import CompressedManifestStaticFilesStorage


class StaticStorage(CompressedManifestStaticFilesStorage):
    """Hashes names and rewrites imports between script modules to the hashed names."""

    support_js_module_import_aggregation = True
