"""The floor of reports: each in a transaction of its own, that reads a row under a lock, writes it, adds a line to its
past, and commits; served as the service is served, with as many connections."""

import sys

import orjson
import uvicorn
from sqlalchemy import text
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import Response
from starlette.routing import Route

from mellow_herald.store.database import make_engine

engine = make_engine(sys.argv[2], 8, 2)
FIND = text("SELECT state, percent FROM floor_attempt WHERE id = :attempt FOR UPDATE")
MOVE = text("UPDATE floor_attempt SET state = :state, percent = :percent WHERE id = :attempt")
NOTE = text("INSERT INTO floor_event (attempt_id, said) VALUES (:attempt, CAST(:said AS jsonb))")


async def report(request: Request) -> Response:
    """One transaction for one call."""
    said = orjson.loads(await request.body())["reports"][0]
    about = {"attempt": said["attempt"]}
    async with engine.begin() as connection:
        (await connection.execute(FIND, about)).one()
        await connection.execute(MOVE, {**about, "state": said["state"], "percent": said["percent"]})
        await connection.execute(NOTE, {**about, "said": orjson.dumps(said).decode()})
    return Response(status_code=204)


app = Starlette(routes=[Route("/device/v1/reports", report, methods=["POST"])])

if __name__ == "__main__":
    uvicorn.run(app, port=int(sys.argv[1]), log_config=None, access_log=False, loop="uvloop", http="httptools")
