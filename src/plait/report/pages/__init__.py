"""The pages: each one file that needs nothing from outside, and is read without script too."""
