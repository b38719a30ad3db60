const { drizzle } = require('drizzle-orm/better-sqlite3'); const { sqliteTable, integer, text } = require('drizzle-orm/sqlite-core'); const { eq } = require('drizzle-orm');
const Database = require('better-sqlite3'); const c = new Database(':memory:'); c.exec('create table vessel(id integer primary key, name text)');
const db = drizzle(c,{logger:true}); const v = sqliteTable('vessel',{id:integer('id').primaryKey(),name:text('name')});
db.insert(v).values({name:"Tern's\nx"}).run(); for (let i=1;i<4;i++) db.select().from(v).where(eq(v.id,i)).all(); db.select().from(v).all();
