"""The computation: tables in, results out.

Nothing here opens a file, prints, or knows of a terminal. One module a verb
(``stack``, ``join``), and beneath them one module an idea.
"""
