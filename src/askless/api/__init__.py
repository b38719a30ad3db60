"""Ask Less for programs, notebooks and tests: `askless.read`, `askless.record`. What the commands print comes from here.

>>> import askless
>>> capture = askless.read(example)
>>> sorted({request.route for request in capture.requests if request.queries > 10})
['GET /berths', 'GET /calls/due']
>>> finding = capture.findings()[0]
>>> finding.pattern, finding.route
('n-plus-one', 'GET /calls/due')
"""

from askless.api.captures import Capture as Capture, Traffic as Traffic, read as read
from askless.api.recording import Recording as Recording, record as record
from askless.api.tables import Findings as Findings, Plans as Plans, Table as Table
