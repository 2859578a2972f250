"""What can be wrong with the data folder; the text is one sentence for the user.

StoreError
├── MissingRowError   there is no such session, revision or print
└── ConflictError     somebody else has changed it meanwhile
"""


class StoreError(Exception):
    """Something cannot be read from or stored in the data folder."""


class MissingRowError(StoreError):
    """There is no such session, revision or print."""


class ConflictError(StoreError):
    """The session was changed by somebody else meanwhile."""
