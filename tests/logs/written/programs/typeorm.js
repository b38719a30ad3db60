require('reflect-metadata');
const { DataSource, EntitySchema } = require('typeorm');
(async()=>{ const V = new EntitySchema({name:'vessel',columns:{id:{type:Number,primary:true,generated:true},name:{type:String}}});
 const db = new DataSource({type:'better-sqlite3',database:':memory:',entities:[V],logging:true,synchronize:true, logger: process.env.L, maxQueryExecutionTime: process.env.S? 0.0001: undefined});
 await db.initialize(); const r = db.getRepository('vessel');
 await r.save([{name:"Tern's\nx 0"},{name:'b'}]);
 for (let i=1;i<4;i++) await r.findOneBy({id:i});
 await db.query('SELECT nothing').catch(e=>0);
})();
