"""The passphrase of the local network: made here, kept as a hash."""

import hashlib
import json
import secrets
from pathlib import Path

_ALPHABET, _GROUPS, _LENGTH = "abcdefghjkmnpqrstuvwxyz23456789", 3, 4  # 59 bits, nothing that reads like another


def new_passphrase(folder: Path) -> str:
    """Make a passphrase; only its hash is kept, readable by the owner alone. Shown once, by whoever asked for it."""
    groups = ["".join(secrets.choice(_ALPHABET) for _ in range(_LENGTH)) for _ in range(_GROUPS)]
    phrase, salt = "-".join(groups), secrets.token_hex(16)
    path = folder / "lan.json"
    path.touch(mode=0o600)
    path.write_text(json.dumps({"salt": salt, "hash": hashed(phrase, salt)}))
    return phrase


def grouped(signs: str) -> str:
    """Signs as a passphrase is written and hashed.

    >>> grouped("abcdefghjkmn")
    'abcd-efgh-jkmn'
    """
    return "-".join(signs[k : k + _LENGTH] for k in range(0, len(signs), _LENGTH))


def has_passphrase(folder: Path) -> bool:
    return (folder / "lan.json").exists()


def hashed(phrase: str, salt: str) -> str:
    return hashlib.scrypt(phrase.encode(), salt=bytes.fromhex(salt), n=2**14, r=8, p=1).hex()
