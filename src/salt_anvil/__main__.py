"""`python -m salt_anvil`."""

import sys

from salt_anvil.cli import main

if __name__ == "__main__":
    sys.exit(main())
