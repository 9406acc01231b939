"""A message understood: passages, sentences, facts, language, outline, alignment, plain text, and a copy for one reader."""
