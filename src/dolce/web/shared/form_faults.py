"""What the faults of a form are answered with, once for all routes."""

from collections.abc import Callable
from functools import wraps
from typing import Any

from flask import request
from werkzeug.wrappers import Response

from dolce.errors import InvalidForm

Route = Callable[..., Response]


def showing_faults(show: Route) -> Callable[..., Callable[[Route], Route]]:
    """For the routes of one stop, whose `show` renders a sheet of a job.

    What it returns is given the name of a sheet and decorates a route: where a form is refused, that sheet is shown
    again with the faults beside their fields and with what was typed, status 422. Without a name it is the sheet that
    the address or the form names.
    """

    def on_sheet(sheet: str = "") -> Callable[[Route], Route]:
        def decorated(route: Route) -> Route:
            @wraps(route)
            def answered(job_id: int, *more: Any, **values: Any) -> Response:
                try:
                    return route(job_id, *more, **values)
                except InvalidForm as error:
                    return show(
                        job_id,
                        sheet=sheet or values.get("sheet", ""),
                        status=422,
                        faults=error.faults,
                        typed=request.form,
                    )

            return answered

        return decorated

    return on_sheet
