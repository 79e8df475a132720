import pytest

from yellowjacket import home
from yellowjacket.bench.services import importing, measuring


@pytest.fixture
def measured(sitting, card, data_folder):
    """A sitting with all its frames in and measured."""
    home.allow_folder(data_folder, card)
    importing.import_folder(sitting, str(card))
    measuring.start_measuring(sitting)
    return sitting
