"""Serves a seed swap on loopback: ``python -m tests.probe.swap flask PORT``."""

import importlib
import socketserver
import sys
import wsgiref.simple_server


class Server(socketserver.ThreadingMixIn, wsgiref.simple_server.WSGIServer):
    daemon_threads = True
    request_queue_size = 128


class Quiet(wsgiref.simple_server.WSGIRequestHandler):
    def log_message(self, *_: object) -> None: ...


app = importlib.import_module(f"tests.probe.swap.{sys.argv[1]}_app").make()
wsgiref.simple_server.make_server("127.0.0.1", int(sys.argv[2]), app, Server, Quiet).serve_forever()
