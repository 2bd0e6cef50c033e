"""A seed bank in memory, its records behind buckets and collections made by Kinto: server.py PORT FILE"""

import json
import sys
import warnings
from pathlib import Path
from typing import Any

from kinto import main
from waitress import serve

port, file = int(sys.argv[1]), Path(sys.argv[2])
warnings.simplefilter("ignore")
kinds = {each: f"kinto.core.{each}.memory" for each in ("storage", "permission", "cache")}
settings = {f"kinto.{each}_backend": place for each, place in kinds.items()}
settings |= {"kinto.userid_hmac_secret": "seeds", "kinto.paginate_by": "25", "kinto.project_docs": "none"}
settings |= {"kinto.bucket_create_principals": "system.Everyone", "kinto.bucket_read_principals": "system.Everyone"}
app = main({}, None, **settings)
storage, permission = app.registry.storage, app.registry.permission


def kept(environ: dict[str, Any], start: Any) -> Any:
    """Answer, and write down what is stored behind each change."""
    answer = app(environ, start)
    if environ["REQUEST_METHOD"] not in {"GET", "HEAD", "OPTIONS"}:
        write()
    return answer


def write() -> None:
    rows: dict[str, dict[str, str]] = {}
    for parent, kinds in list(storage._store.items()):
        for kind, objects in list(kinds.items()) if parent.startswith("/buckets/") else ():
            rows[f"{parent} {kind}"] = {key: json.dumps(each, sort_keys=True) for key, each in list(objects.items())}
    file.write_text(json.dumps({"models": rows}), "utf-8")


def stored(parent: str, kind: str, number: int, each: dict[str, Any]) -> None:
    storage.create(kind, parent, {"id": f"{kind[0]}{number:02d}", **each})


stored("", "bucket", 1, {"id": "bank"})
permission.add_principal_to_ace("/buckets/bank", "write", "system.Everyone")
for name in ("species", "accessions"):
    stored("/buckets/bank", "collection", 1, {"id": name})
for number in range(1, 10):
    species = {"name": f"Species {number}", "protected": number % 4 == 0}
    stored("/buckets/bank/collections/species", "record", number, species)
for number in range(1, 31):
    grams = {"number": f"ACC-{number:04d}", "grams": 25 * number % 180, "note": f"note {number}"}
    stored("/buckets/bank/collections/accessions", "record", number, grams)
write()
serve(kept, host="127.0.0.1", port=port, threads=4)
