"""Serves a seed swap on a socket that is given to it: ``python -m tests.probe.swap flask DESCRIPTOR``."""

import importlib
import socket
import socketserver
import sys
import wsgiref.simple_server


class Server(socketserver.ThreadingMixIn, wsgiref.simple_server.WSGIServer):
    daemon_threads = True
    request_queue_size = 128


class Quiet(wsgiref.simple_server.WSGIRequestHandler):
    def log_message(self, *_: object) -> None: ...


app = importlib.import_module(f"tests.probe.swap.{sys.argv[1]}_app").make()
server = Server(("127.0.0.1", 0), Quiet, bind_and_activate=False)
server.socket = socket.socket(fileno=int(sys.argv[2]))
server.server_name, server.server_port = server.server_address = server.socket.getsockname()
server.setup_environ()
server.set_app(app)
server.serve_forever()
