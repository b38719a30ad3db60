"""Documents: what a command says, built without knowing how it is shown. A page, a notebook and a
test use it as well.
"""
