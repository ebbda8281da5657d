"""How tests ask the pages without a browser."""

import re

from dolce.web import create_app


class _AsShown:
    """An answer whose text has one space wherever a browser shows one."""

    @property
    def text(self):
        text = super().text
        return re.sub(r"\s+", " ", text) if self.mimetype == "text/html" else text


def client_of_app(app):
    """A client of the pages or of the remote."""
    client = app.test_client()
    client.response_wrapper = type("Answer", (_AsShown, client.response_wrapper), {})
    return client


def client_of(services):
    return client_of_app(create_app(services))


def token(client, url="/"):
    return re.search(r'name="csrf-token" content="([^"]+)"', client.get(url).text)[1]


def post(client, url, *, htmx=True, **data):
    headers = {"HX-Request": "true"} if htmx else {}
    answer = client.post(
        url, data={"csrf_token": token(client), **data}, headers=headers, content_type="multipart/form-data"
    )
    answer.request.environ["wsgi.input"].close()  # a large form lies in a file, which the client leaves
    return answer
