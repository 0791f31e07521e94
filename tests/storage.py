"""An object storage for tests: the files of a folder as the objects of a bucket, over the S3 protocol.

    storage.py FOLDER BUCKET [CERTIFICATE KEY]

What keeps and gives the objects is moto, a storage for tests; what checks each signature is botocore, which no part of ours has
seen. A file that changes is a new object from the next request on. It says its port on the first line, and then each request: whether it is
signed, and for what. A file FOLDER.orders names mishaps, one a line: the next object that is asked for meets the first one.
"""

import pathlib
import sys
import threading
from datetime import datetime, timedelta, timezone
from urllib.parse import parse_qs, quote

from botocore.auth import S3SigV4QueryAuth
from botocore.awsrequest import AWSRequest
from botocore.credentials import Credentials
from moto.moto_server.werkzeug_app import DomainDispatcherApplication, create_backend_app
from werkzeug.serving import WSGIRequestHandler, make_server
from werkzeug.test import Client
from werkzeug.wrappers import Response

ID, SECRET, REGION = "reader-of-tides", "under/the+pier=7", "north-quay"
folder, bucket = pathlib.Path(sys.argv[1]), sys.argv[2]
orders = folder.with_name(folder.name + ".orders")
moto = DomainDispatcherApplication(create_backend_app)
inside = Client(moto, Response)
kept = {}
one_at_a_time = threading.Lock()


def place(key):
    return quote(f"/{bucket}/{key}")


def bring_in():
    files = {str(path.relative_to(folder)): path for path in folder.rglob("*") if path.is_file()}
    for key in kept.keys() - files.keys():
        inside.delete(place(key))
        del kept[key]
    for key, path in files.items():
        content = path.read_bytes()
        if kept.get(key) != content:
            put = inside.put(place(key), data=content, headers={"x-amz-acl": "public-read"})
            assert put.status_code == 200, (key, put.status)
            kept[key] = content


def signature_of(environ):
    """That the request is signed, and by whom it was: none, wrong, or right."""
    query = environ["QUERY_STRING"]
    given = {name: values[0] for name, values in parse_qs(query).items()}
    if "X-Amz-Signature" not in given:
        return "unsigned"
    names = given["X-Amz-SignedHeaders"].split(";")
    headers = {name: environ["HTTP_" + name.upper().replace("-", "_")] for name in names}
    rest = "&".join(pair for pair in query.split("&") if not pair.startswith("X-Amz-Signature="))
    path = environ["REQUEST_URI"].split("?")[0]
    request = AWSRequest("GET", f"http://{environ['HTTP_HOST']}{path}?{rest}", headers=headers)
    request.context["timestamp"] = given["X-Amz-Date"]
    auth = S3SigV4QueryAuth(Credentials(ID, SECRET), "s3", REGION)
    text = auth.string_to_sign(request, auth.canonical_request(request))
    made = datetime.strptime(given["X-Amz-Date"], "%Y%m%dT%H%M%SZ").replace(tzinfo=timezone.utc)
    is_new = abs(datetime.now(timezone.utc) - made) < timedelta(minutes=5)
    is_ours = given["X-Amz-Credential"] == auth.scope(request) and given["X-Amz-Signature"] == auth.signature(text, request)
    return "signed" if is_ours and is_new else "wrong"


def refused(status, code):
    text = f'<?xml version="1.0" encoding="UTF-8"?>\n<Error><Code>{code}</Code><Message>No.</Message></Error>'
    return Response(text, status=status, content_type="application/xml")


def served(environ, begin):
    signed = signature_of(environ)
    path = environ["REQUEST_URI"].split("?")[0]
    # In one piece: two requests are answered at a time.
    sys.stdout.write(f"{signed} {path} {environ.get('HTTP_IF_MATCH', '-')}\n")
    sys.stdout.flush()
    if environ["REQUEST_METHOD"] != "GET" or signed == "wrong":
        return refused(403, "SignatureDoesNotMatch")(environ, begin)
    is_open = path.startswith(f"/{bucket}/open") or "prefix=open" in environ["QUERY_STRING"]
    if signed == "unsigned" and not is_open:
        return refused(403, "AccessDenied")(environ, begin)
    is_object = path.strip("/") != bucket
    order = ""
    with one_at_a_time:
        if is_object and orders.exists():
            order, _, rest = orders.read_text().partition("\n")
            orders.write_text(rest)
    if order == "busy":
        return refused(503, "SlowDown")(environ, begin)
    if order == "elsewhere":
        return Response(status=307, headers={"Location": "https://elsewhere.example/?X-Amz-Signature=1"})(environ, begin)
    with one_at_a_time:
        if order.startswith("change "):
            changed = folder / order.removeprefix("change ")
            changed.write_bytes(changed.read_bytes() + b"\n")
        bring_in()
        answer = moto(environ, begin)
    if order != "cut":
        return answer
    # The header has promised more.
    content = b"".join(answer)
    return [content[: len(content) // 2]]


class Quiet(WSGIRequestHandler):
    protocol_version = "HTTP/1.0"

    def log(self, *_):
        pass


inside.put(f"/{bucket}")
bring_in()
context = (sys.argv[3], sys.argv[4]) if len(sys.argv) > 3 else None
server = make_server("127.0.0.1", 0, served, threaded=True, request_handler=Quiet, ssl_context=context)
print(server.server_port, flush=True)
server.serve_forever()
