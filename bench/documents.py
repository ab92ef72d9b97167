"""Documents in open models: read, against what the standard parser takes for them and against the network file."""

import json
import time

from bench.generator import Shape, document
from routrel.formats.models.writing import document_of
from routrel.formats.sources import read_files


def bench_documents(quick: bool) -> None:
    """The devices of one network as documents, and the network as one file."""
    routers = 100 if quick else 1000
    data = document(Shape(routers, areas=max(1, routers // 50), degree=6, prefixes=routers * 4, acl_share=0.3))
    files = {
        f"{name}.json": json.dumps(document_of(name, device), indent=1).encode()
        for name, device in data["devices"].items()
    }
    links = {key: value for key, value in data.items() if key != "devices"}
    files["network.yaml"] = json.dumps(links).encode()
    whole = {"network.json": json.dumps(data).encode()}
    lines = sum(text.count(b"\n") for text in files.values()) // routers
    seconds = []
    for action in (
        lambda: [json.loads(text) for text in files.values()],
        lambda: read_files(files),
        lambda: read_files(whole),
    ):
        start = time.process_time()
        action()
        seconds.append(time.process_time() - start)
    parsed, documents, file = seconds
    print(
        f"documents of {routers} devices, {lines} lines each: read in {documents / parsed:.0f} times the standard"
        f" parser's time, {documents / file:.1f} times the network file's"
    )
