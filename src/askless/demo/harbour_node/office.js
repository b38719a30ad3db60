// Two of the office's pages, in a language that no recorder goes into: node office.js PORT grown|tuned, with DATABASE_URL.
'use strict';
const http = require('http');
const { Client } = require('./postgres');

const [port, kind] = process.argv.slice(2);
const db = new Client(process.env.DATABASE_URL);
const DUE = "SELECT id, vessel_id, eta FROM port_call WHERE status = 'due' ORDER BY eta LIMIT 40";

const grown = {
  '/calls/due': async () => {
    const calls = await db.query(DUE);
    for (const call of calls) {
      call.vessel = (await db.query('SELECT id, name, flag FROM vessel WHERE id = $1', call.vessel_id))[0];
      call.jobs = await db.query('SELECT id, tug_id FROM tug_job WHERE port_call_id = $1', call.id);
      for (const job of call.jobs) job.tug = (await db.query('SELECT id, name FROM tug WHERE id = $1', job.tug_id))[0];
    }
    return calls;
  },
  '/berths': async () => {
    const berths = await db.query('SELECT id, name FROM berth ORDER BY id');
    for (const berth of berths) berth.calls = (await db.query('SELECT count(*) FROM port_call WHERE berth_id = $1', berth.id))[0].count;
    return berths;
  },
};

const listed = rows => '{' + [...new Set(rows)].join(',') + '}';
const by = (rows, key) => new Map(rows.map(row => [row[key], row]));
const tuned = {
  '/calls/due': async () => {
    const calls = await db.query(DUE);
    const vessels = by(await db.query('SELECT id, name, flag FROM vessel WHERE id = ANY($1::int[])', listed(calls.map(c => c.vessel_id))), 'id');
    const jobs = await db.query('SELECT id, tug_id, port_call_id FROM tug_job WHERE port_call_id = ANY($1::int[]) ORDER BY id', listed(calls.map(c => c.id)));
    const tugs = by(await db.query('SELECT id, name FROM tug WHERE id = ANY($1::int[])', listed(jobs.map(j => j.tug_id))), 'id');
    for (const job of jobs) job.tug = tugs.get(job.tug_id);
    for (const call of calls) {
      call.vessel = vessels.get(call.vessel_id);
      call.jobs = jobs.filter(job => job.port_call_id === call.id).map(({ id, tug_id, tug }) => ({ id, tug_id, tug }));
    }
    return calls;
  },
  '/berths': () => db.query(
    'SELECT b.id, b.name, count(c.id) AS calls FROM berth b LEFT JOIN port_call c ON c.berth_id = b.id GROUP BY b.id, b.name ORDER BY b.id'
  ),
};

http.createServer(async (request, response) => {
  const page = { grown, tuned }[kind][request.url];
  try {
    if (!page) throw new Error('no such page');
    response.end(JSON.stringify(await page()));
  } catch (error) {
    response.writeHead(page ? 500 : 404).end(error.message);
  }
}).listen(+port, '127.0.0.1');
