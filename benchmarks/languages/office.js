// The office's pages with Sequelize on pg and mysql2: row by row, eagerly loaded, counted. Arguments: system, file of marks.
const fs = require('fs');
const { Sequelize, DataTypes } = require('sequelize');

const [system, marks] = process.argv.slice(2);
const postgres = system === 'postgresql';
const db = new Sequelize('office', 'harbour', 'tide', {
  dialect: postgres ? 'postgres' : 'mysql', logging: false,
  host: process.env[postgres ? 'PGHOST' : 'MYSQL_HOST'], port: +process.env[postgres ? 'PGPORT' : 'MYSQL_TCP_PORT'],
});
const table = (name, columns) => db.define(name, { id: { type: DataTypes.INTEGER, primaryKey: true }, ...columns }, { tableName: name, timestamps: false });
const { INTEGER, STRING, DATE } = DataTypes;
const Vessel = table('vessel', { name: STRING });
const Tug = table('tug', { name: STRING });
const TugJob = table('tug_job', { port_call_id: INTEGER, tug_id: INTEGER });
const PortCall = table('port_call', { status: STRING, eta: DATE, vessel_id: INTEGER, berth_id: INTEGER });
const Berth = table('berth', { name: STRING });
PortCall.belongsTo(Vessel, { foreignKey: 'vessel_id' });
PortCall.hasMany(TugJob, { foreignKey: 'port_call_id', as: 'jobs' });
TugJob.belongsTo(Tug, { foreignKey: 'tug_id' });

const due = more => PortCall.findAll({ where: { status: 'due' }, order: [['eta', 'ASC']], limit: 20, ...more });
const pages = {
  'row by row': async () => {
    for (const call of await due()) {
      (await call.getVessel()).name;
      for (const job of await call.getJobs()) (await job.getTug()).name;
    }
  },
  eager: () => due({ include: [{ model: Vessel }, { model: TugJob, as: 'jobs', separate: true, include: [Tug] }] }),
  counted: async () => { for (const berth of await Berth.findAll({ order: ['id'] })) await PortCall.count({ where: { berth_id: berth.id } }); },
};
(async () => {
  const file = fs.openSync(marks, 'w');
  const now = () => performance.timeOrigin / 1000 + performance.now() / 1000;
  for (let turn = 0; turn < 2; turn++) {
    for (const [name, page] of Object.entries(pages)) {
      const start = now();
      await page();
      fs.writeSync(file, JSON.stringify({ name, start, end: now() }) + '\n');
    }
  }
  await db.close();
})();
