"""Uploads: bounded, read by the core before anything is stored, stored whole or not at all."""

import hashlib
import re
import zlib
from dataclasses import dataclass
from typing import Any

import msgspec
from django.conf import settings
from django.db import transaction
from django.db.models import Count, Max, Sum
from rest_framework.exceptions import PermissionDenied, ValidationError

from jobs.records import hold_expectations
from networks.models import Membership, Network, Revision, Role
from routrel.formats.errors import InputError, LoadError
from routrel.formats.yaml_nodes import MAX_BYTES
from routrel.model.places import Place
from work.answering import Loaded
from work.service import Subject, ask


@dataclass(frozen=True)
class Upload:
    """Bytes with the name they came under, and what the core made of them."""

    name: str
    data: bytes
    loaded: Loaded

    @property
    def title(self) -> str:
        """What it calls itself, else the file's name."""
        return self.loaded.name[:200] or self.name.rpartition(".")[0] or self.name

    @property
    def digest(self) -> str:
        """SHA-256 of the bytes as they came."""
        return hashlib.sha256(self.data).hexdigest()


def read_upload(data: Any, user: Any = None) -> Upload:
    """The upload of a request: a file, or pasted text, read, solved and asked once by a work process.

    Raises ``LoadError`` where it is too large, and what the work process refused.
    """
    return upload_of(*bytes_of_upload(data, "network.yaml"), user)


def bytes_of_upload(data: Any, default: str) -> tuple[str, bytes]:
    """The name and the bytes of a file that a request sends, or those of a pasted text; raises ``LoadError``."""
    file, text = data.get("file"), data.get("text")
    if (file is None) == (text is None):
        raise ValidationError("Send either a file or a text.")
    if file is not None and not hasattr(file, "read"):
        raise ValidationError("'file' must be an uploaded file.")
    if file is not None and file.size > MAX_BYTES:
        raise LoadError(
            [
                InputError(
                    Place(_safe_name(file.name), 1, 1),
                    "the file is too large",
                    found=f"{file.size:,} bytes",
                    allowed=f"at most {MAX_BYTES:,} bytes",
                )
            ]
        )
    return (_safe_name(file.name), file.read()) if file is not None else (default, str(text).encode())


def upload_of(name: str, content: bytes, user: Any = None) -> Upload:
    """Bytes with what a work process made of them."""
    digest = hashlib.sha256(content).hexdigest()
    text = ask(Subject(digest, name, lambda: content), "loaded", {}, user)
    return Upload(name, content, msgspec.json.decode(text, type=Loaded))


def check_quota(user: Any) -> None:
    """Refuse an upload of a user who has stored as much as one may: what is theirs is taken out first."""
    kept = Revision.objects.filter(created_by=user).aggregate(count=Count("id"), size=Sum("size"))
    most = settings.QUOTA
    if kept["count"] >= most["revisions"] or (kept["size"] or 0) >= most["bytes"]:
        raise PermissionDenied(
            f"You have stored {kept['count']:,} revisions of {(kept['size'] or 0) // 2**20:,} MiB; allowed are"
            f" {most['revisions']:,} of {most['bytes'] // 2**20:,} MiB. Delete a network that is no longer needed"
            " for good."
        )


def _safe_name(name: str | None) -> str:
    """A file name fit for a header and a screen; the path a browser may send is dropped."""
    plain = re.sub(r"[^A-Za-z0-9._ -]", "_", (name or "").replace("\\", "/").split("/")[-1]).strip(" .")
    return plain[-100:] or "network.yaml"


def create(user: Any, upload: Upload, name: str, note: str) -> tuple[Membership, Revision]:
    """A new network of a user with its first revision; without a name it is called as the upload calls itself."""
    with transaction.atomic():
        network = Network.objects.create(name=name or upload.title)
        membership = Membership.objects.create(network=network, user=user, role=Role.OWNER)
        return membership, store(network, upload, user, note)


def store(network: Network, upload: Upload, user: Any, note: str) -> Revision:
    """A new revision of a network; the caller's transaction makes it all or nothing."""
    with transaction.atomic():
        Network.objects.select_for_update().get(pk=network.pk)
        last = network.revisions.aggregate(last=Max("number"))["last"] or 0
        revision: Revision = Revision.objects.create(
            network=network,
            number=last + 1,
            created_by=user,
            note=note,
            file_name=upload.name,
            packed=zlib.compress(upload.data),
            size=len(upload.data),
            digest=upload.digest,
            taken_at=upload.loaded.taken_at,
            device_count=upload.loaded.device_count,
            is_capture=upload.loaded.is_capture,
        )
        hold_expectations(revision, upload.loaded.expectation_count, user)
        return revision
