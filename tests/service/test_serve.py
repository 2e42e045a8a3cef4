import socket

from mellow_herald.service.serve import take_port


def test_answers_leave_at_once() -> None:
    with take_port("127.0.0.1", 0) as listener:
        listener.listen()
        with socket.create_connection(listener.getsockname()), listener.accept()[0] as accepted:
            assert accepted.getsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY)
