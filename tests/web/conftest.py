import io

import pytest

from yellowjacket import home
from yellowjacket.bench.models import Sitting
from yellowjacket.bench.services import importing, measuring, sitting_archive

# The measured sitting as it was made the first time, for all other tests of this process.
_KEPT: dict[str, bytes] = {}


@pytest.fixture
def measured(request, card, data_folder, db):
    """A sitting with all its frames in and measured. It is measured once; other tests take it in from its archive."""
    home.allow_folder(data_folder, card)
    if "measured" in _KEPT and not {"sitting", "body", "make_sitting"} & set(request.fixturenames):
        taken = sitting_archive.read(io.BytesIO(_KEPT["measured"]), "measured.zip")
        return Sitting.objects.get(pk=taken.sitting.pk)
    sitting = request.getfixturevalue("sitting")
    importing.import_folder(sitting, str(card))
    measuring.start_measuring(sitting)
    if "measured" not in _KEPT:
        buffer = io.BytesIO()
        sitting_archive.write(sitting, buffer, originals=False)
        _KEPT["measured"] = buffer.getvalue()
    return sitting
