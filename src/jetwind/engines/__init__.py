"""The world outside, behind plain values: a browser, a mail server. No Django."""
