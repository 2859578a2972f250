"""What can be wrong with a file; the text is one sentence for the user."""


class FileError(Exception):
    """A file cannot be read, used or written."""


class DamagedError(FileError):
    """A file that the program keeps is not as it was written. where: the entry it belongs to."""

    def __init__(self, text: str, where: str) -> None:
        super().__init__(text)
        self.where = where
