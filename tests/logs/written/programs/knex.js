const knex = require('knex')({client:'better-sqlite3',connection:{filename:':memory:'},useNullAsDefault:true, debug: !!process.env.D});
(async()=>{ await knex.schema.createTable('vessels',t=>{t.increments();t.string('name')});
for (let i=0;i<2;i++) await knex('vessels').insert({name:"Tern's "+i});
for (let i=1;i<4;i++) await knex('vessels').where({id:i});
await knex.destroy(); })();
