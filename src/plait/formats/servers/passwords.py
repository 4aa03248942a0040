"""Passwords that the system's keyring keeps."""

from __future__ import annotations

from plait.formats.places.address import Address


def from_keyring(address: Address) -> str | None:
    """The password that the system's keyring has for the user of an address, if any.

    It is kept under the address without user, password and options:
    ``keyring set postgresql://db.example/co_op ines``.
    """
    try:
        import keyring
        from keyring.errors import KeyringError
    except ImportError:
        return None
    parts = address.parts()
    if not parts.user:
        return None
    port = f":{parts.port}" if parts.port else ""
    try:
        return keyring.get_password(
            f"{address.scheme}://{parts.host}{port}/{parts.path}", parts.user
        )
    except (KeyringError, RuntimeError, OSError):
        return None  # there is no keyring on this machine, or it is locked
