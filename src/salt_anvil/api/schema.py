"""`python -m salt_anvil.api.schema`: the API's schema on standard output, for the page's types."""

import json

from salt_anvil.api.app import schema

if __name__ == "__main__":
    print(json.dumps(schema()))
