"""The floor: a bare Starlette route that reads the body and answers 204, served as the service is served."""

import sys

import uvicorn
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import Response
from starlette.routing import Route


async def read(request: Request) -> Response:
    """Reads the body, does nothing with it."""
    await request.body()
    return Response(status_code=204)


app = Starlette(routes=[Route("/device/v1/checkins", read, methods=["POST"])])

if __name__ == "__main__":
    uvicorn.run(app, port=int(sys.argv[1]), log_config=None, access_log=False, loop="uvloop", http="httptools")
