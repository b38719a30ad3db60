import javax.persistence.*;
@Entity @Table(name="vessel") class Vessel { @Id @GeneratedValue public Integer id; public String name; }
import org.hibernate.*; import org.hibernate.cfg.*;
public class H { public static void main(String[] a) throws Exception {
 Configuration c = new Configuration().addAnnotatedClass(Vessel.class)
  .setProperty("hibernate.connection.driver_class","org.hsqldb.jdbc.JDBCDriver").setProperty("hibernate.connection.url","jdbc:hsqldb:mem:x").setProperty("hibernate.connection.username","sa")
  .setProperty("hibernate.dialect","org.hibernate.dialect.HSQLDialect").setProperty("hibernate.hbm2ddl.auto","create").setProperty("hibernate.show_sql", a.length>0?"true":"false").setProperty("hibernate.format_sql", a.length>1?"true":"false");
 Session s = c.buildSessionFactory().openSession(); Transaction t = s.beginTransaction();
 for (int i=0;i<3;i++){ Vessel v = new Vessel(); v.name="Tern's "+i; s.save(v);} t.commit(); s.clear();
 for (int i=1;i<4;i++) s.get(Vessel.class,i);
 s.createQuery("from Vessel v where v.name = :n and v.id > :k").setParameter("n","x").setParameter("k",2).list();
 s.close(); } }
