"""Entity tags of answers: a revision never changes, so that an answer does only where the code that makes it does."""

import hashlib
import json
from pathlib import Path
from typing import Any

from django.utils.http import quote_etag

import routrel
from networks.models import Revision

CODE = max(file.stat().st_mtime_ns for file in Path(routrel.__file__).parent.rglob("*.py"))
"""When the core was last written: an upgrade makes every answer anew, whatever its version says."""


def tag_of(revision: Revision, question: str, parameters: Any) -> str:
    """The tag of one answer about one revision."""
    asked = json.dumps([routrel.__version__, CODE, revision.digest, revision.file_name, question, parameters])
    return quote_etag(hashlib.sha256(asked.encode()).hexdigest()[:32])
