"""Names and folders that files can be written to."""

from pathlib import Path

from salt_anvil.core.errors import FileError


def file_stem(words: str, longest: int) -> str:
    """Return words as a file name without its ending that every file system takes; may be empty.

    longest: in bytes, which is what some file systems count.
    """
    stem = "".join(c if c.isalnum() or c in " -_,.()" else "_" for c in words).strip(" .")
    return stem.encode()[:longest].decode(errors="ignore").strip(" .")


def make_folder(folder: Path) -> None:
    """Make a folder and what is above it, unless it is there.

    Raises:
        FileError: it cannot be made, or is no folder.
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        reason = (error.strerror or "error").lower()
        raise FileError(f"{folder} cannot be used: {reason}") from None
