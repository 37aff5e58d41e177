"""Changes that are rolled back, in applications over SQLAlchemy, sync and async handlers alike."""

import sqlite3

from tests.program import InFolder

POLICY = """
    roles
      keeper
    endpoints
      GET       /beds/{bed_id}  signed-in
      POST      /beds/{bed_id}  keeper
      DELETE    /beds/{bed_id}  keeper
"""
SETTINGS = """
    policy = "access.bloodroot"
    app = "beds:APP"
    [personas.visitor]
    signed_in = false
    [personas.ash]
    attributes = { id = 1 }
    [personas.hazel]
    roles = ["keeper"]
    attributes = { id = 2 }
    [samples]
    bed_id = 1
    [probe]
    reset = "rollback"
    engine = "beds:engine"
    state = ["beds"]
    [probe.sign_in]
    how = "header"
    fields = { "X-Member" = "{persona.name}" }
"""
APP = """
    import flask, sqlalchemy as sa
    from sqlalchemy.orm import Session
    from starlette.applications import Starlette
    from starlette.responses import PlainTextResponse
    from starlette.routing import Route

    engine = sa.create_engine("sqlite:///FOLDER/beds.db")
    at_once = sa.create_engine("sqlite:///FOLDER/beds.db", isolation_level="AUTOCOMMIT")
    beds = sa.Table("beds", sa.MetaData(), sa.Column("id", sa.Integer, primary_key=True), sa.Column("name", sa.String(50)))

    def answer(method, who):
        # Several transactions in one request, one of them given up: each must see what was committed before.
        if who is None:
            return "who?", 401
        if method != "GET" and who != "hazel" and not OPEN:
            return "no", 403
        with Session(engine) as session:
            found = session.scalar(sa.select(beds.c.name).where(beds.c.id == 1))
            if found is None:
                return "lost", 404
            if method == "DELETE":
                session.execute(beds.delete())
            if method == "POST":
                session.execute(beds.update().values(name="changed"))
            session.commit()
        with engine.connect() as connection:
            left = connection.scalar(sa.select(beds.c.name).where(beds.c.id == 1))
        assert left == {"GET": found, "POST": "changed", "DELETE": None}[method]
        return "done", 200

    wsgi = flask.Flask("beds", static_folder=None)

    @wsgi.route("/beds/<int:bed_id>", methods=["GET", "POST", "DELETE"])
    def bed(bed_id):
        return answer(flask.request.method, flask.request.headers.get("X-Member"))

    def in_thread(request):
        return PlainTextResponse(*answer(request.method, request.headers.get("x-member")))

    async def in_loop(request):
        return in_thread(request)

    asgi = Starlette(routes=[Route("/beds/{bed_id}", in_thread, methods=["GET", "DELETE"]), Route("/beds/{bed_id}", in_loop, methods=["POST"])])
"""


class Rollback(InFolder):
    def rows(self) -> list[tuple[int, str]]:
        store = sqlite3.connect(self.folder / "beds.db")
        try:
            return store.execute("select * from beds order by id").fetchall()
        finally:
            store.close()

    def test_changes_leave_no_trace(self) -> None:
        for name in ("wsgi", "asgi"):
            for opened, summary in (
                ("False", "As declared: 0 holes, 0 blocked, 9 agree"),
                ("True", "Not as declared: 2 holes at 2 endpoints, 0 blocked, 7 agree"),
            ):
                with self.subTest(f"{name}, {opened}"):
                    store = sqlite3.connect(self.folder / "beds.db")
                    store.executescript(
                        "drop table if exists beds; create table beds (id integer primary key, name text); insert into beds values (1, 'fern'), (2, 'tarn');"
                    )
                    store.close()
                    self.write("access.bloodroot", POLICY)
                    self.write("bloodroot.toml", SETTINGS.replace("APP", name))
                    self.write("beds.py", APP.replace("OPEN", opened).replace("FOLDER", str(self.folder)))
                    out = self.bloodroot("probe").out
                    self.assertEqual(out.splitlines()[0].partition(";")[0], summary, out)
                    self.assertEqual(self.rows(), [(1, "fern"), (2, "tarn")])

    def test_files_and_tables_show_what_changed(self) -> None:
        reset = "\n\ndef reset():\n    with engine.begin() as c:\n        c.execute(beds.delete())\n        c.execute(beds.insert(), [{'id': 1, 'name': 'fern'}])\n"
        for state, message in (
            ('["beds"]', "changed the data all the same"),
            ('["beds.db"]', "changed the data all the same"),
            ('["bedz.db"]', '"bedz.db" is no file in'),
        ):
            with self.subTest(state):
                self.write("access.bloodroot", POLICY)
                settings = (
                    SETTINGS.replace("APP", "wsgi").replace('"rollback"', '"beds:reset"').replace('["beds"]', state)
                )
                self.write(
                    "bloodroot.toml", settings.replace('engine = "beds:engine"', "") if "bedz" in state else settings
                )
                app = self.write("beds.py", APP.replace("OPEN", 'method == "POST"').replace("FOLDER", str(self.folder)))
                late = '        if who != "hazel" and method == "POST":\n            return "no", 403\n        with engine.connect()'
                text = app.read_text().replace(
                    "    with engine.connect()", late.removeprefix("    ").replace("\n        ", "\n    ")
                )
                app.write_text(text + reset)
                store = sqlite3.connect(self.folder / "beds.db")
                store.executescript("create table if not exists beds (id integer primary key, name text)")
                store.close()
                run = self.bloodroot("probe")
                self.assertIn(message, run.out + run.err)
                if "bedz" not in state:
                    # Refused, and done all the same: the answer alone would agree.
                    self.assertIn("answered 403, and changed the data all the same", run.out)

    def test_where_nothing_can_be_rolled_back(self) -> None:
        self.write("access.bloodroot", POLICY)
        self.write("beds.py", APP.replace("OPEN", "False").replace("FOLDER", str(self.folder)))
        for change, message in (
            (
                ('engine = "beds:engine"\n    state = ["beds"]', ""),
                'works in this process, for Django over WSGI, and with engine = "module:name"',
            ),
            (('"beds:engine"', '"beds:at_once"'), "commits each statement at once (AUTOCOMMIT)"),
            (('"beds:engine"', '"beds:beds"'), "probe.engine is a Table, and no engine of SQLAlchemy"),
            (('"beds:engine"', '"beds:lost"'), 'probe.engine = "beds:lost" cannot be imported'),
            (('state = ["beds"]', 'state = "beds:answer"'), "probe.state failed: TypeError: answer() missing"),
        ):
            with self.subTest(message):
                self.write("bloodroot.toml", SETTINGS.replace("APP", "wsgi").replace(*change))
                run = self.bloodroot("probe")
                self.assertEqual((run.status, run.out), (2, ""))
                self.assertIn(message, run.err)
