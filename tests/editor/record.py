"""Stands between an editor and the service, and writes what they say: record.py FILE PROGRAM ARGUMENTS...

One message a line, with "from": "client" or "service". The folder of the estate is written as ROOT."""

import json
import subprocess
import sys
import threading

out = open(sys.argv[1], "w")
service = subprocess.Popen(sys.argv[2:], stdin=subprocess.PIPE, stdout=subprocess.PIPE)
lock = threading.Lock()
root = None


def keep(sender, body):
    global root
    message = json.loads(body)
    if message.get("method") == "initialize":
        root = message["params"]["rootUri"]
        message["params"]["processId"] = None
    line = json.dumps({"from": sender, "message": message})
    with lock:
        out.write((line.replace(root, "file://ROOT").replace(root.removeprefix("file://"), "ROOT") if root else line) + "\n")
        out.flush()


def carry(source, to, sender):
    while True:
        length = 0
        while True:
            line = source.readline()
            if not line:
                to.close()
                return
            if not line.strip():
                break
            if line.lower().startswith(b"content-length:"):
                length = int(line.split(b":")[1])
        body = source.read(length)
        keep(sender, body)
        to.write(b"Content-Length: %d\r\n\r\n%s" % (len(body), body))
        to.flush()


back = threading.Thread(target=carry, args=(service.stdout, sys.stdout.buffer, "service"))
back.start()
carry(sys.stdin.buffer, service.stdin, "client")
back.join()
sys.exit(service.wait())
