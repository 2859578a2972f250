"""Where the server is found. Loads next to nothing: a port that is taken is said at once."""

import socket

from salt_anvil.core.errors import FileError


def listening(host: str, port: int) -> socket.socket:
    """Return a socket that listens there; 0: at any port that is free.

    Raises:
        FileError: the port is taken, or cannot be had.
    """
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    # Said to be TCP: else asyncio lets the kernel hold back what is sent for 40 ms (Nagle).
    listener = socket.socket(family, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listener.bind((host, port))
        listener.listen(128)
    except OSError as error:
        reason = "is in use" if error.errno == 98 else f"cannot be had ({error.strerror})"
        raise FileError(f"port {port} on {host} {reason}; choose another with --port") from None
    return listener
