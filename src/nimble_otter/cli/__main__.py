"""`python -m nimble_otter.cli`."""

import os
import sys

from nimble_otter.cli.main import fail, main
from nimble_otter.errors import OtterError

if __name__ == "__main__":
    try:
        sys.exit(main())
    except BrokenPipeError:
        os._exit(0)
    except OtterError as unknown:
        sys.exit(fail(3, str(unknown)))
