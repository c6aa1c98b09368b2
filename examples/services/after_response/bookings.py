"""Bookings over HTTP: the letter and the seat map are done after the response, which says 202."""

from __future__ import annotations

import asyncio
from typing import Annotated

from fastapi import BackgroundTasks, Depends, FastAPI

app = FastAPI()
letters: list[str] = []
seats: dict[str, int] = {"TL-204": 3}
visits: list[str] = []


async def count_visit(after: BackgroundTasks) -> None:
    """A dependency that adds a function of its own."""
    after.add_task(visits.append, "visit")


async def send_letter(booking: str) -> None:
    """Send the letter. The mail server takes its time."""
    await asyncio.sleep(2)
    letters.append(booking)


def take_seat(sailing: str) -> None:
    """Take a seat on a sailing. Raises `ValueError` if there is none."""
    if seats[sailing] == 0:
        raise ValueError(f"no seat is left on {sailing}")
    seats[sailing] -= 1


@app.post("/bookings/{sailing}", status_code=202)
async def book(sailing: str, after: BackgroundTasks, _: Annotated[None, Depends(count_visit)]) -> dict[str, str]:
    """Take a booking; what it needs is done after the response."""
    after.add_task(send_letter, f"{sailing}/1")
    after.add_task(take_seat, sailing)
    return {"state": "accepted"}
