"""The demo world: an invented pottery cooperative on an invented coast, its people, readers and messages."""
