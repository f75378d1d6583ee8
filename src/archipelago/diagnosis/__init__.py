"""Why a packet stopped: from the place where it stopped to the culprit and the change that mends it.

`faults` makes a finding of each kind of mistake; the audit uses the same ones, so a mistake has one name, one
wording and one mend wherever it is found.
"""
