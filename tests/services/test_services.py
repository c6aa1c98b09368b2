"""Stands: mail, HTTP, key-value store, ledger; their faults; real functions as effects."""

from __future__ import annotations

import asyncio
from typing import Any

import httpx
import pytest

import ironclock as ic


def test_mail_is_on_record_with_its_instant_and_its_sender() -> None:
    rig = ic.Rig(start="2031-03-03T09:00")
    mail = rig.service(ic.services.Mail())
    kind = rig.job(lambda to: mail.send(to, "Your seat", "Deck 2"), name="confirm")
    with rig:
        job = rig.enqueue(kind.call("ina"), after="5m")
        rig.run_dry()
    assert [(m.to, m.subject, f"{m.at:%H:%M}") for m in mail.sent] == [("ina", "Your seat", "09:05")]
    effect = rig.effects("mail.send")[0]
    assert (effect.job, effect.attempt, effect.key, effect.outcome) == (job, 1, "ina: Your seat", "done")
    assert mail.to("ina") == mail.sent
    assert "effect mail.send 'ina: Your seat'" in job.story()


def test_an_outage_a_lost_response_and_a_slow_answer() -> None:
    rig = ic.Rig(start="2031-03-03T09:00")
    mail = ic.services.Mail()
    mail.outage(("2031-03-03T09:00", "2031-03-03T09:10"))
    mail.lose_response(calls=3)
    mail.slow("7s", calls=(3, 4))
    rig.service(mail)
    kind = rig.job(lambda to: mail.send(to, "Your seat"), name="confirm", retry=ic.Retry(9, "6m"))
    with rig:
        job = rig.enqueue(kind.call("ina"))
        rig.run_dry()
    assert [type(a.error).__name__ for a in job.attempts[:-1]] == ["ServiceError", "ServiceError", "ResponseLost"]
    assert len(mail.sent) == 2
    assert (job.attempts[2].ended_at - job.attempts[2].started_at).total_seconds() == 7  # type: ignore[operator]
    with pytest.raises(ic.laws.BrokenLaw, match=r"mail.send of 'ina: Your seat' is done 2 times") as caught:
        rig.check(ic.laws.once_per_key("mail.send"))
    assert "attempt 3 fails: ResponseLost: the answer of mail was lost" in str(caught.value)


def test_the_store_forgets_at_the_instant_of_expiry() -> None:
    rig = ic.Rig()
    store = rig.service(ic.services.KeyValue())
    with rig:
        store.set("fare", {"TL-204": 180}, expires="1m")
        store.get("fare")["TL-204"] = 0
        assert store.get("fare") == {"TL-204": 180}, "a copy, as across a network"
        rig.advance("59s")
        assert (store.get("fare") is not None, store.expires_in("fare")) == (True, 1.0)
        rig.advance("1s")
        assert store.get("fare", "gone") == "gone"
        assert store.add("lock", 1, expires="10s") is True
        assert store.add("lock", 2) is False
        rig.advance("10s")
        assert store.add("lock", 3) is True
        assert [store.increment("seats"), store.increment("seats", 5)] == [1, 6]
        assert (store.delete("seats"), store.delete("seats")) == (True, False)
    with pytest.raises(ic.InputError, match="the key is 3; store takes text"):
        store.get(3)  # type: ignore[arg-type]


def test_the_ledger_balances_and_may_guard_against_doubles() -> None:
    rig = ic.Rig()
    plain, careful = rig.service(ic.services.Ledger()), rig.service(ic.services.Ledger("careful", idempotent=True))
    for ledger in (plain, careful):
        for _ in range(2):
            ledger.post("card", "fares", 180, key="B-7")
    assert (plain.balance("fares"), careful.balance("fares"), careful.balance("card")) == (360, 180, -180)
    with pytest.raises(ic.laws.BrokenLaw, match=r"ledger.post of 'B-7' is done 2 times"):
        rig.check(ic.laws.once_per_key("ledger.post"))
    rig.check(ic.laws.once_per_key("careful.post", due=["B-7"]))
    with pytest.raises(ic.laws.BrokenLaw, match=r"careful.post of 'B-8' is never done"):
        rig.check(ic.laws.once_per_key("careful.post", due=["B-8"]))
    for bad in (0, -1, 1.5, True):
        with pytest.raises(ic.InputError, match="give a whole number of units"):
            plain.post("card", "fares", bad)  # type: ignore[arg-type]


def office(rig: ic.Rig) -> ic.services.HttpService:
    handed: dict[str, Any] = {}

    def handler(method: str, path: str, body: Any) -> Any:
        if method == "PUT":
            handed[path] = body
            return ic.services.Reply(201, {"got": len(body)})
        return handed.get(path) or ic.services.Reply(404)

    return rig.service(ic.services.HttpService("office", handler))


def test_an_http_service_called_directly() -> None:
    rig = ic.Rig()
    service = office(rig)
    service.answer(503, retry_after="90s", calls=2)
    assert service.request("PUT", "/TL-204", ["Ina"]).status == 201
    busy = service.request("GET", "/TL-204")
    assert (busy.status, busy.headers["retry-after"], busy.ok) == (503, "90", False)
    assert service.request("GET", "/TL-204").body == ["Ina"]
    assert service.request("GET", "/TL-205").status == 404
    assert len(rig.effects("office.request")) == 4
    assert len(rig.effects("office.request", outcome="done")) == 3
    assert len(rig.effects("office.request", outcome="failed")) == 1


def test_an_httpx_client_leads_there_and_its_timeouts_are_real() -> None:
    rig = ic.Rig()
    service = office(rig)
    service.slow("30s", calls=2)
    service.slow("2s", calls=1)
    service.lose_response(calls=3)
    service.fail(calls=4)

    def submit(sailing: str) -> int:
        with httpx.Client(transport=service.transport(), base_url="http://office", timeout=5) as client:
            return client.put(f"/{sailing}", json=["Ina"]).status_code

    with rig:
        jobs = [rig.enqueue(rig.job(submit, retry=ic.Retry(9, "1m")).call("TL-204")) for _ in range(2)]
        rig.run_dry()
    kinds = [type(a.error).__name__ for job in jobs for a in job.attempts]
    assert sorted(kinds) == ["ConnectError", "NoneType", "NoneType", "ReadError", "ReadTimeout"]
    seconds = sorted((a.ended_at - a.started_at).total_seconds() for job in jobs for a in job.attempts)  # type: ignore[operator]
    assert seconds[-2:] == [2, 5]
    done = rig.effects("office.request", key='PUT /TL-204 ["Ina"]', outcome="done")
    assert len(done) == 4, "the slow one did it all the same, 30 s after it was asked"


@pytest.mark.parametrize(
    ("idempotent", "made", "outcomes"), [(True, 1, ["done", "repeated"]), (False, 2, ["done"] * 2)]
)
def test_a_request_with_an_idempotency_key_is_done_once(idempotent: bool, made: int, outcomes: list[str]) -> None:
    rig = ic.Rig()
    receipts: list[str] = []

    def refund(method: str, path: str, body: object) -> object:
        receipts.append(f"R-{len(receipts) + 1}")
        return {"receipt": receipts[-1]}

    bank = rig.service(ic.services.HttpService("bank", refund, idempotent=idempotent))
    bank.lose_response(calls=1)
    answers: list[object] = []

    def pay_back() -> None:
        with httpx.Client(transport=bank.transport(), base_url="http://bank") as client:
            answers.append(client.post("/refunds", headers={"idempotency-key": "B-7"}).json())

    with rig:
        rig.enqueue(rig.job(pay_back, retry=ic.Retry(2, "1s")).call())
        rig.run_dry()
    assert [effect.outcome for effect in rig.effects("bank.request")] == outcomes
    assert len(receipts) == len(bank.received) == made
    assert answers == [{"receipt": receipts[-1]}]
    if idempotent:
        rig.check(ic.laws.no_key_twice())
        assert "asked for again, and answered as before" in rig.jobs("pay_back").one().story()


def test_a_slow_request_and_its_repetition_are_done_once() -> None:
    rig = ic.Rig()
    bank = rig.service(ic.services.HttpService("bank"))
    bank.slow("30s", calls=1)

    def pay_back() -> None:
        with httpx.Client(transport=bank.transport(timeout="5s"), base_url="http://bank", timeout=5) as client:
            client.post("/refunds", headers={"Idempotency-Key": "B-7"})

    with rig:
        rig.enqueue(rig.job(pay_back, retry=ic.Retry(2, "1s")).call())
        rig.run_dry()
        rig.advance("1m")
    assert [effect.outcome for effect in rig.effects("bank.request")] == ["done", "repeated"]
    assert len(bank.received) == 1


def test_an_async_client_waits_without_stopping_the_loop() -> None:
    rig = ic.Rig()
    service = office(rig)
    service.slow("10s")
    ticks: list[int] = []

    async def submit() -> int:
        async def tick() -> None:
            for n in range(5):
                await asyncio.sleep(1)
                ticks.append(n)

        async with httpx.AsyncClient(transport=service.transport(), base_url="http://office", timeout=60) as client:
            response, _ = await asyncio.gather(client.put("/TL-204", json=[]), tick())
        assert ticks == list(range(5))
        return response.status_code

    with rig:
        job = rig.enqueue(rig.job(submit).call())
        rig.run_dry()
    assert (job.state, job.result) == ("done", 201)


class Bank:
    def __init__(self) -> None:
        self.took: list[tuple[str, int]] = []

    def charge(self, card: str, amount: int = 180) -> str:
        if card == "stolen":
            raise PermissionError(card)
        self.took.append((card, amount))
        return "receipt"

    async def refund(self, card: str) -> str:
        await asyncio.sleep(3)
        return f"refund {card}"


def test_any_real_function_can_be_an_effect() -> None:
    rig, bank = ic.Rig(), Bank()
    charge = rig.effect("charge", bank.charge, key="card")
    refund = rig.effect("refund", bank.refund, key=lambda card: card.upper())

    async def both(card: str) -> str:
        bank.charge(card)
        return await bank.refund(card)

    kind = rig.job(both, retry=ic.Retry(2))
    rig.faults.fail("both", at="after charge", attempts=1)
    with rig:
        job = rig.enqueue(kind.call("ina"))
        stolen = rig.enqueue(kind.call("stolen"))
        rig.run_dry()
        assert charge("again", 5) == "receipt"
    assert (job.result, stolen.state) == ("refund ina", "dead")
    assert [(e.key, e.outcome) for e in rig.effects if e.name == "charge"] == [
        ("ina", "done"), ("stolen", "failed"), ("ina", "done"), ("stolen", "failed"), ("again", "done"),
    ]  # fmt: skip
    assert [e.key for e in rig.effects("refund", outcome="done")] == ["INA"]
    assert bank.charge("later") == "receipt"
    assert len(rig.effects("charge", outcome="done")) == 3, "outside the rig it is what it was"
    assert refund.name == "refund"


def test_services_are_in_one_rig_once() -> None:
    rig = ic.Rig()
    mail = rig.service(ic.services.Mail())
    with pytest.raises(ic.RigStateError, match="the rig has a service 'mail' already"):
        rig.service(ic.services.Mail())
    with pytest.raises(ic.RigStateError, match="is in a rig already"):
        ic.Rig().service(mail)
    for bad, says in (
        (lambda: mail.fail(operation="fax"), "no operation 'fax'; give one of send"),
        (lambda: mail.fail(calls=0), "the number of a call is 0"), (lambda: mail.fail(chance=2), "give a share"),
        (lambda: mail.outage(("2031-03-03T09:00",)), "give a pair of instants"),  # type: ignore[arg-type]
        (lambda: ic.services.HttpService().answer(99), "status is 99"), (lambda: ic.services.Mail(""), "name is ''"),
    ):  # fmt: skip
        with pytest.raises(ic.InputError, match=says):
            bad()


def test_a_job_that_uses_a_service_outside_a_rig_is_told_where() -> None:
    stray = ic.services.Ledger("purse")
    rig = ic.Rig()
    with rig:
        job = rig.enqueue(rig.job(lambda: stray.post("a", "b", 1), name="pay").call())
        rig.run_dry()
    assert "purse.post is used outside a rig" in str(job.error)
    assert "test_services.py" in str(job.error)


def test_an_http_service_knows_what_a_request_is_about() -> None:
    with ic.Rig() as rig:
        harbour = ic.services.HttpService("harbour", key=lambda method, path, body: body["booking"])
        rig.service(harbour)
        harbour.request("POST", "/fares", {"booking": 7})
        harbour.request("POST", "/fares", {"booking": 8})
        rig.check(ic.laws.once_per_key("harbour.request"))
        harbour.request("POST", "/fares", {"booking": 7})
        with pytest.raises(ic.BrokenLaw, match=r"harbour\.request of 7 is done 2 times"):
            rig.check(ic.laws.once_per_key("harbour.request"))
    with pytest.raises(ic.InputError, match="key is 5; give a function"):
        ic.services.HttpService(key=5)  # type: ignore[arg-type]


# --- objects, webhooks, mail over a socket -----------------------------------------------------------------


def test_an_object_can_be_read_before_it_is_listed() -> None:
    with ic.Rig() as rig:
        store = rig.service(ic.services.ObjectStore(listed_after="5s"))
        tag = store.put("manifests/TL-204.csv", b"seat", metadata={"by": "desk"})
        assert (store.get("manifests/TL-204.csv").body, len(tag)) == (b"seat", 32)
        assert store.list() == []
        rig.advance("5s")
        assert store.list("manifests/") == ["manifests/TL-204.csv"]
        assert store.list("bills/") == []
        with pytest.raises(FileExistsError, match=r"has an object 'manifests/TL-204.csv' already"):
            store.put("manifests/TL-204.csv", b"", if_absent=True)
        assert store.delete("manifests/TL-204.csv")
        assert not store.delete("manifests/TL-204.csv")
        with pytest.raises(FileNotFoundError, match=r"has no object 'manifests/TL-204.csv'"):
            store.get("manifests/TL-204.csv")
        assert store.list() == ["manifests/TL-204.csv"], "the listing has not heard of it"
        rig.advance("5s")
        assert store.list() == []
        store.lose_response(operation="put")
        with pytest.raises(ic.ResponseLost):
            store.put("bills/1", b"7")
        assert store.get("bills/1").body == b"7"
        with pytest.raises(ic.InputError, match="the body of 'x' is str; give bytes"):
            store.put("x", "text")  # type: ignore[arg-type]


def test_a_receiver_of_signed_webhooks() -> None:
    import hashlib
    import hmac
    import time

    httpx = pytest.importorskip("httpx")
    check = ic.services.signed_by("salt", header="X-Tern", prefix="v1=", timestamp="X-At", tolerance="1m")
    with ic.Rig() as rig:
        hooks = rig.service(ic.services.HttpService("hooks", check=check))
        client = httpx.Client(transport=hooks.transport(), base_url="http://hooks.test")

        def send(secret: str, late: float = 0) -> Any:
            body, at = b'{"seat":3}', str(int(time.time() - late))
            signed = hmac.new(secret.encode(), at.encode() + b"." + body, hashlib.sha256).hexdigest()
            return client.post("/", content=body, headers={"X-Tern": f"v1={signed}", "X-At": at})

        assert send("salt").status_code == 200
        assert (send("tar").status_code, send("tar").text) == (401, "the signature in X-Tern does not fit")
        assert "more than 1m from now" in send("salt", late=90).text
        assert client.post("/", json={}).text == "the header X-At is '', and not a number of seconds"
        assert hooks.received == [{"seat": 3}]
    with pytest.raises(ic.InputError, match="secret is ''; give text"):
        ic.services.signed_by("")


def test_a_mail_server_on_a_socket() -> None:
    import smtplib
    from email.message import EmailMessage

    with ic.Rig(start="2031-03-29T21:00") as rig:
        server = rig.service(ic.services.MailServer())
        server.fail(calls=2, error=ConnectionError("try again"))
        server.lose_response(calls=3)
        server.slow("4s", calls=4)
        server.outage(("2031-03-29T21:10", "2031-03-29T21:20"))
        address = server.address

        def send(subject: str) -> str:
            letter = EmailMessage()
            letter["From"], letter["To"], letter["Subject"] = "desk@tern-line.test", "ada@tern-line.test", subject
            letter.set_content("Seat A1\n.\nBring a coat")
            try:
                with smtplib.SMTP(*address) as client:
                    client.send_message(letter)
            except (smtplib.SMTPException, OSError) as error:
                return type(error).__name__
            return "sent"

        job = rig.enqueue(rig.job(lambda: [send(f"letter {n}") for n in range(1, 5)], name="letters"))
        rig.run_dry()
        assert job.result == ["sent", "SMTPDataError", "SMTPServerDisconnected", "sent"]
        assert [letter.subject for letter in server.received] == ["letter 1", "letter 3", "letter 4"]
        first = server.received[0]
        assert (first.sender, first.recipients, first.body) == (
            "desk@tern-line.test",
            ("ada@tern-line.test",),
            "Seat A1\n.\nBring a coat",
        )
        assert f"{rig.now:%M:%S}" == "00:04"
        rig.advance_to("2031-03-29T21:15")
        assert send("letter 5") == "SMTPServerDisconnected"
        rig.advance_to("2031-03-29T21:20")
        assert send("letter 6") == "sent"


@pytest.mark.parametrize("kind", ["plain", "async", "generator", "async generator"])
def test_a_call_with_an_idempotency_key_is_repeated(kind: str) -> None:
    if kind == "plain":

        def charge(key: str) -> str:
            return f"R-{key}"
    elif kind == "async":

        async def charge(key: str) -> str:
            return f"R-{key}"
    elif kind == "generator":

        def charge(key: str) -> Any:
            yield f"R-{key}"
    else:

        async def charge(key: str) -> Any:
            yield f"R-{key}"

    async def collected(given: Any) -> list[str]:
        return [item async for item in given]

    with ic.Rig() as rig:
        rig.effect("charge", charge, key="key", idempotent=True)
        rig.faults.fail("pay", at="after charge", attempts=1)

        def pay(key: str) -> Any:
            made = charge(key)
            if kind == "async":
                return asyncio.run(made)
            if kind == "async generator":
                return asyncio.run(collected(made))
            return list(made) if kind == "generator" else made

        for key in ("B-1", "B-2"):
            rig.enqueue(rig.job(pay, retry=3).call(key))
        rig.run_dry()
        assert [effect.outcome for effect in rig.effects("charge", key="B-1")] == ["done", "repeated"]
        rig.check(ic.laws.once_per_key("charge"), ic.laws.no_key_twice())
        for options, says in [({"idempotent": 1}, "idempotent is 1; give True"), ({"idempotent": True}, "has no key")]:
            with pytest.raises(ic.InputError, match=says):
                rig.effect("again", charge, **options)
