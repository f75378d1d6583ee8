"""What devices know, derived once from what is written: carrier, VLAN membership, interfaces, routing tables.

The engines, the audit, the diagnosis and the views all read it from here.
"""
