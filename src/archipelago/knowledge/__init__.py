"""What devices know, derived in stages from what is written: each module is one, and imports only those before it.

The engines, the audit, the diagnosis and the views all read it from here.
"""
