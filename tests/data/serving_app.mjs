// Answers whatever reaches it, and says what has.
import http from "node:http";

let seen = [];
const note = (request, word) => seen.push(`${word} ${request.url} ${request.headers["x-caller"] ?? ""}`);
const server = http.createServer((request, response) => {
  if (request.url === "/seen" && request.headers.host === "tests") {
    response.end(JSON.stringify(seen));
    seen = [];
    return;
  }
  note(request, request.method);
  response.end();
});
server.on("upgrade", (request, socket) => {
  note(request, "UPGRADE");
  socket.end("HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n\r\n");
});
server.listen(0, "127.0.0.1", () => console.log(server.address().port));
