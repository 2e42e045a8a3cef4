"""An object store on loopback that speaks S3."""

from collections.abc import Iterator, Mapping
from contextlib import contextmanager

import httpx
from moto.server import ThreadedMotoServer

BUCKET = "s3://thistledown/firmware"


@contextmanager
def serving_objects() -> Iterator[tuple[str, Mapping[str, str]]]:
    """Its address, with the bucket in it, and the environment of a service that keeps its images there."""
    server = ThreadedMotoServer(ip_address="127.0.0.1", port=0)
    server.start()
    url = "http://{}:{}".format(*server.get_host_and_port())
    httpx.put(f"{url}/thistledown", trust_env=False).raise_for_status()
    yield (
        url,
        {
            "AWS_ENDPOINT": url,
            "AWS_ACCESS_KEY_ID": "only-for-tests",
            "AWS_SECRET_ACCESS_KEY": "only-for-tests",
            "AWS_REGION": "us-east-1",
        },
    )
    server.stop()
