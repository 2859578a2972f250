"""What can be wrong with a file; the text is one sentence for the user."""


class FileError(Exception):
    """A file cannot be read, used or written."""
