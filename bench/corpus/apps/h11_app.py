"""The old gate's wire: requests and answers, byte by byte."""

import h11


def pair():
    return h11.Connection(h11.CLIENT), h11.Connection(h11.SERVER)


def request(draw):
    return h11.Request(
        method="POST",
        target=f"/gates/{draw.randint(1, 9)}",
        headers=[("Host", "pier.example"), ("Content-Length", "5")],
    )


def asked(draw):
    client, server = pair()
    server.receive_data(
        client.send(request(draw)) + client.send(h11.Data(data=b"berth")) + client.send(h11.EndOfMessage())
    )
    events = []
    while True:
        event = server.next_event()
        events.append(event)
        if isinstance(event, h11.EndOfMessage):
            return server, events


def gate(draw):
    _, events = asked(draw)
    return int(events[0].target.rpartition(b"/")[2]) + 1


def body(draw):
    _, events = asked(draw)
    return bytes(events[1].data).decode().upper()


def answered(draw):
    server, _ = asked(draw)
    sent = server.send(h11.Response(status_code=200, headers=[("Content-Length", "2")]))
    return sent + server.send(h11.Data(data=b"ok")) + server.send(h11.EndOfMessage())


def chunked(draw):
    client, server = pair()
    client.send(h11.Request(method="GET", target="/", headers=[("Host", "x")]))
    client.send(h11.EndOfMessage())
    parts = b"".join(b"%x\r\n%s\r\n" % (n, b"t" * n) for n in draw.sample(range(1, 9), 3))
    client.receive_data(b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n" + parts + b"0\r\n\r\n")
    seen = 0
    while True:
        event = client.next_event()
        if isinstance(event, h11.Data):
            seen += len(event.data)
        if isinstance(event, h11.EndOfMessage):
            return 100 / seen


def again(draw):
    server, _ = asked(draw)
    server.send(h11.Response(status_code=204, headers=[]))
    server.send(h11.EndOfMessage())
    return server.states[h11.SERVER], server.their_state


def headers(draw):
    _, events = asked(draw)
    named = {name: value for name, value in events[0].headers}
    return named[b"host"].split(b".")[1], len(named)


def early(draw):
    client, server = pair()
    server.receive_data(
        f"GET /{draw.randint(1, 9)} HTTP/1.1\r\nHost: x\r\nExpect: 100-continue\r\nContent-Length: 1\r\n\r\n".encode()
    )
    server.next_event()
    return server.they_are_waiting_for_100_continue, server.trailing_data


ENTRIES = [gate, body, answered, chunked, again, headers, early]


def bare_gate(draw):
    return h11.Request(method="GET", target=f"/{draw.randint(1, 9)}", headers=[])


def spaced_gate(draw):
    return h11.Request(method="GET", target=f"/gate {draw.randint(1, 9)}", headers=[("Host", "x")])


def early_answer(draw):
    _, server = pair()
    return server.send(h11.Data(data=b"x" * draw.randint(1, 9)))


def garbled(draw):
    _, server = pair()
    server.receive_data(f"gate {draw.randint(1, 9)}\r\n\r\n".encode())
    return server.next_event()


def long_answer(draw):
    server, _ = asked(draw)
    server.send(h11.Response(status_code=200, headers=[("Content-Length", "1")]))
    return server.send(h11.Data(data=b"x" * draw.randint(5, 9)))


def low_status(draw):
    return h11.Response(status_code=draw.randint(10, 90), headers=[])


MISUSES = [bare_gate, spaced_gate, early_answer, garbled, long_answer, low_status]
