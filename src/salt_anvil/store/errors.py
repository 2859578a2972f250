"""What can be wrong with the store."""


class StoreError(Exception):
    """The store cannot do it; the text is one sentence for the user."""
