"""`python -m nimble_otter.cli`."""

import sys

from nimble_otter.cli.entry import main

if __name__ == "__main__":
    sys.exit(main())
