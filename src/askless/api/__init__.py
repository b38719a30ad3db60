"""Ask Less for programs, notebooks and tests: `askless.read`, `askless.record`. What the commands
print comes from here.

>>> import askless
>>> capture = askless.read(example)
>>> sorted({request.route for request in capture.requests if request.queries > 10})
['GET /berths', 'GET /calls/due']
>>> finding = next(one for one in capture.findings() if one.relation == "PortCall.vessel")
>>> finding.pattern, finding.route, finding.advice[0].code
('n-plus-one', 'GET /calls/due', '.options(joinedload(PortCall.vessel))')
"""

from askless.api.captures import Capture as Capture, Traffic as Traffic, read as read
from askless.api.recording import Recording as Recording, record as record
from askless.api.tables import Findings as Findings, Plans as Plans, Table as Table
