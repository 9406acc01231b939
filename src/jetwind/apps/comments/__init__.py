"""What people say at a place of a message: a finding, an element, a point in a render, the subject, a station; in threads."""
