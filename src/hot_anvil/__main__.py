"""``python -m hot_anvil``: the same as the command ``hot-anvil``."""

import sys

from hot_anvil.cli.main import main

sys.exit(main())
