"""One connection each: sockets, ports and brokers. Thin; knows no setup."""
