"""Which media type a body is sent in, and which hold rows."""

from __future__ import annotations

from checkpost.contract.contract import MediaType, Operation
from checkpost.model.shape import alternatives, shape_of

URLENCODED = "application/x-www-form-urlencoded"
MULTIPART = "multipart/form-data"
JSON_PATCH = "application/json-patch+json"
_MERGE_PATCH = "application/merge-patch+json"
#: Media types that hold a JSON value a line, or a record separator and a value (RFC 7464).
LINES = frozenset(
    {
        "application/x-ndjson",
        "application/ndjson",
        "application/jsonl",
        "application/x-jsonlines",
        "application/json-seq",
    }
)


def is_json_type(media_type: str) -> bool:
    """Whether a media type holds JSON: application/json or one with the +json suffix (RFC 6839)."""
    plain = media_type.partition(";")[0].strip().lower()
    return plain in {"application/json", "text/json", "*/*", "application/*"} or plain.endswith("+json")


def is_form(media_type: str) -> bool:
    return media_type in {URLENCODED, MULTIPART}


def is_patch(media: MediaType) -> bool:
    """Whether a body is a patch of operations (RFC 6902): by its media type, or as its schema says."""
    if media.name == JSON_PATCH:
        return True
    item = shape_of(media.schema).item if is_json_type(media.name) else None
    if item is None:
        return False
    return all({"op", "path"} <= shape_of(each).properties.keys() for each in alternatives(item) or [item])


def record_media(operation: Operation | None) -> MediaType | None:
    """The media type whose schema is that of a record in a request: JSON, else a form."""
    content = operation.body.content if operation is not None and operation.body is not None else ()
    usable = [each for each in content if is_json_type(each.name) and not is_patch(each)]
    forms = [each for each in content if is_form(each.name)]
    return next(iter(usable or forms), None)


def request_media_type(operation: Operation) -> str:
    """The media type to send: a merge patch (RFC 7396) where offered, else the first JSON type, else a patch of
    operations (RFC 6902) or a form."""
    offered = [each.name for each in operation.body.content] if operation.body else []
    if operation.method == "PATCH" and _MERGE_PATCH in offered:
        return _MERGE_PATCH
    usable = [name for name in offered if is_json_type(name) and name != JSON_PATCH]
    others = [name for name in (JSON_PATCH, URLENCODED, MULTIPART) if name in offered]
    if others and not usable:
        return others[0]
    return next((name for name in usable if "*" not in name), "application/json")
