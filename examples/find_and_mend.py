"""Put a mistake into a working network, ask why two hosts no longer reach each other, and apply the mend."""

from pathlib import Path

import archipelago
from archipelago.model.finding import REMOVE, Edit

NETWORK = """\
format: archipelago-network/1
title: Tern Bay, slipway      # written by hand
vlans: {crew: 120, cameras: 140}
devices:
  pier-office:
    kind: router
    ports:
      p1: {}
    interfaces:
      p1.120: {parent: p1, tag: crew, address: 10.44.20.1/25}
      p1.140: {parent: p1, tag: cameras, address: 10.44.20.129/26}
  slip:
    kind: switch
    ports:
      p1: {access: crew}
      p2: {access: cameras}
      p12: {trunk: [crew, cameras], untagged: none}   # to the router
hosts:
  winch:  {at: slip/p1, address: 10.44.20.2/25, gateway: 10.44.20.1}
  lookout: {at: slip/p2, address: 10.44.20.130/26, gateway: 10.44.20.129}
cables:
  - pier-office/p1 ~ slip/p12
"""

broken = archipelago.amend(NETWORK, [Edit(("hosts", "lookout", "gateway"), REMOVE)])
Path("slipway.yaml").write_text(broken)
network = archipelago.read_network("slipway.yaml")

answer = archipelago.reach(network, "winch", "lookout")
print(f"reached: {answer.reached}; stopped on the way {answer.direction}, at {answer.at}: {answer.says}")
print(f"mend: {answer.mend}")

Path("slipway.yaml").write_text(archipelago.amend(broken, answer.edits))
print(f"reached now: {archipelago.reach(archipelago.read_network('slipway.yaml'), 'winch', 'lookout').reached}")
