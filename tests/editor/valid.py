"""Holds recorded conversations against the published types of the Language Server Protocol.

valid.py FOLDER: each file holds one conversation, one message a line, with "from": "client" or "service" and "message".
A message has to fit its type, and nothing in it may be unknown to the type."""

import json
import sys
from pathlib import Path

from lsprotocol import converters, types

CONVERTER = converters.get_converter()


def known(sent, read, path):
    """What was sent and is not in what was read, as the first path to it; nothing where there is none."""
    if isinstance(sent, dict):
        if not isinstance(read, dict):
            return path
        for key, value in sent.items():
            # What is null need not be there.
            if value is None:
                continue
            if key not in read:
                return f"{path}.{key}"
            if found := known(value, read[key], f"{path}.{key}"):
                return found
        return None
    if isinstance(sent, list):
        if not isinstance(read, list) or len(sent) != len(read):
            return path
        for at, (one, other) in enumerate(zip(sent, read)):
            if found := known(one, other, f"{path}[{at}]"):
                return found
        return None
    return None if sent == read else path


def check(message, of, what):
    read = CONVERTER.structure(message, of)
    if found := known(message, CONVERTER.unstructure(read), what):
        # What a command takes and gives is free.
        if any(free in found for free in (".arguments", ".settings", "executeCommand.result")):
            return
        raise ValueError(f"{found} is unknown to its type")


def main(folder):
    checked, wrong, asked = 0, 0, {}
    for file in sorted(Path(folder).glob("*.jsonl")):
        asked.clear()
        for number, line in enumerate(file.read_text().splitlines(), 1):
            entry = json.loads(line)
            message, sender = entry["message"], entry["from"]
            method = message.get("method")
            try:
                if method is not None:
                    if method not in types.METHOD_TO_TYPES:
                        raise ValueError(f"the protocol knows no `{method}`")
                    # Some editors say more of themselves than the protocol knows.
                    if method != "initialize":
                        check(message, types.METHOD_TO_TYPES[method][0], method)
                    if "id" in message:
                        asked[sender, str(message["id"])] = method
                else:
                    other = "service" if sender == "client" else "client"
                    method = asked.pop((other, str(message["id"])))
                    if "error" in message:
                        check(message["error"], types.ResponseError, f"{method}.error")
                    else:
                        check(message, types.METHOD_TO_TYPES[method][1], f"{method}")
                checked += 1
            except Exception as error:  # Whatever is wrong is told, and the next one looked at.
                wrong += 1
                print(f"{file.name}:{number}: {method}: {error!r:.400}")
    print(f"{checked} messages fit their types, {wrong} do not")
    if wrong or checked < 50:
        sys.exit(1)


main(sys.argv[1])
