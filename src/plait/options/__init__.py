"""What each verb can be asked for: one module a verb, from which all that names options is made."""
