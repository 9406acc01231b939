"""Pages that the links of a message lead to, and pictures that lie elsewhere: opened, kept, drawn, judged by the checks."""
