"""``python -m yellowjacket.cli``."""

from yellowjacket.cli.main import main

raise SystemExit(main())
