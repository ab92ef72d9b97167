"""The first user of a new database, with a password made for it."""

import json
import os
import secrets
from pathlib import Path
from typing import Any

from django.contrib.auth import get_user_model

USERNAME = "harbour"


def first_user() -> tuple[Any, str]:
    """The user to sign in as, and its password where it is still the one made here, else ''.

    The password is kept beside the database's own, in a file only its owner reads.
    """
    users = get_user_model().objects
    kept = Path(os.environ["ROUTREL_DATABASE"]).with_name("first-user.json")
    user = users.filter(username=USERNAME).first()
    if user is None:
        password = "-".join(secrets.token_hex(2) for _ in range(4))
        user = users.create_user(USERNAME, password=password)
        kept.touch(mode=0o600)
        kept.write_text(json.dumps({"username": USERNAME, "password": password}))
        return user, password
    password = json.loads(kept.read_text())["password"] if kept.is_file() else ""
    return user, password if user.check_password(password) else ""


def greeting(address: str, password: str) -> str:
    shown = password or "(the one you chose)"
    return (
        f"\n  Routrel is at {address}\n  sign in as    {USERNAME}\n  password      {shown}\n\n  Stop it with Ctrl-C.\n"
    )
