"""Django settings: ``base`` is shared, ``local`` is what `yellowjacket serve` uses, ``test`` what the tests use."""
