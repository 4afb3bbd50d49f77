"""Makes an empty bucket `dairy` in the stores that .ci/stores started: CHURN_S3 and CHURN_AZ say where they are.

Whoever signs nothing may read the one of S3's protocol, and the requests of `gs://` sign nothing that this store knows.
"""

import base64
import datetime
import hashlib
import hmac
import json
import os
import urllib.request

# The emulator's own, by its documentation.
ACCOUNT = "devstoreaccount1"
KEY = "Eby8vdM02xNOcqFlqUwJPLlmEtlCDXJ1OUzFT50uSRZ6IFsuFq2UVErCz4I6tq/K1SZFPTOtr/KBHBeksoGMGw=="


READ_BY_ALL = {
    "Version": "2012-10-17",
    "Statement": [
        {
            "Effect": "Allow",
            "Principal": "*",
            "Action": ["s3:GetObject", "s3:ListBucket"],
            "Resource": ["arn:aws:s3:::dairy", "arn:aws:s3:::dairy/*"],
        }
    ],
}


def put(address, headers, body=b""):
    """Sends a request."""
    request = urllib.request.Request(address, data=body, method="PUT", headers=headers)
    # The loopback needs no proxy.
    urllib.request.build_opener(urllib.request.ProxyHandler({})).open(request).close()


def blob_headers(name):
    """Headers that sign the making of a container, as the service's documentation has it."""
    now = datetime.datetime.now(datetime.timezone.utc).strftime("%a, %d %b %Y %H:%M:%S GMT")
    own = {"x-ms-date": now, "x-ms-version": "2023-11-03"}
    lines = ["PUT", "", "", "", "", "application/x-www-form-urlencoded", "", "", "", "", "", ""]
    lines += [f"{key}:{value}" for key, value in sorted(own.items())]
    lines += [f"/{ACCOUNT}/{ACCOUNT}/{name}", "restype:container"]
    signed = hmac.new(base64.b64decode(KEY), "\n".join(lines).encode(), hashlib.sha256).digest()
    signature = base64.b64encode(signed).decode()
    return own | {"Authorization": f"SharedKey {ACCOUNT}:{signature}"}


put(os.environ["CHURN_S3"] + "/dairy", {})
put(os.environ["CHURN_S3"] + "/dairy?policy", {"Content-Type": "application/json"}, json.dumps(READ_BY_ALL).encode())
put(f"{os.environ['CHURN_AZ']}/{ACCOUNT}/dairy?restype=container", blob_headers("dairy"))
