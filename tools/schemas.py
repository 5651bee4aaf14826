"""Write docs/schemas: JSON Schema of what clients and servers send and are sent, from the message types."""

from __future__ import annotations

from pathlib import Path

import msgspec

from tinclock.serve.requests import asyncapi
from tinclock.serve.requests import schemas as of_service
from tinclock.wire.messages import schemas

HERE = Path(__file__).resolve().parent.parent / "docs" / "schemas"


def main() -> None:
    """One file a direction, and the service as a whole."""
    HERE.mkdir(exist_ok=True)
    for name, schema in {**schemas(), **of_service()}.items():
        text = msgspec.json.format(msgspec.json.encode(schema), indent=2) + b"\n"
        (HERE / f"{name}.schema.json").write_bytes(text)
    described = msgspec.json.format(msgspec.json.encode(asyncapi()), indent=2) + b"\n"
    (HERE / "service.asyncapi.json").write_bytes(described)


if __name__ == "__main__":
    main()
