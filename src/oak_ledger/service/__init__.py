"""A catalogue over HTTP, and over the protocol of PostgreSQL (`sql/`): sources, their dictionary, questions and reports, by the rights of a token.

- The service asks the catalogue in each request by the token that came with it: there is no session and no cache of
  rights, so that what was taken away is away. What keeps it from falling over is refusal: so many questions at a
  time, so many seconds and rows for each (`service/limits.py`), whatever protocol they come by; a reader that looks at the clock between batches ends
  a question.
"""
