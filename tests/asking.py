"""How tests ask the pages without a browser."""

import re

from dolce.web import create_app


def client_of(services):
    return create_app(services).test_client()


def token(client, url="/"):
    return re.search(r'name="csrf-token" content="([^"]+)"', client.get(url).text)[1]


def post(client, url, *, htmx=True, **data):
    headers = {"HX-Request": "true"} if htmx else {}
    answer = client.post(
        url, data={"csrf_token": token(client), **data}, headers=headers, content_type="multipart/form-data"
    )
    answer.request.environ["wsgi.input"].close()  # a large form lies in a file, which the client leaves
    return answer
