import javax.persistence.*; import java.util.*;
public class E { @Entity @Table(name="vessel") public static class Vessel { @Id public Integer id; public String name; }
 public static void main(String[] a) throws Exception { Map<String,String> g = new HashMap<>();
 g.put("javax.persistence.jdbc.url","jdbc:hsqldb:mem:x"); g.put("javax.persistence.jdbc.driver","org.hsqldb.jdbc.JDBCDriver"); g.put("javax.persistence.jdbc.user","sa"); g.put("javax.persistence.jdbc.password","");
 g.put("eclipselink.ddl-generation","create-tables"); g.put("eclipselink.logging.level.sql","FINE"); g.put("eclipselink.logging.parameters","true"); g.put("eclipselink.weaving","false"); g.put("eclipselink.cache.shared.default","false");
 EntityManagerFactory f = Persistence.createEntityManagerFactory("o", g); EntityManager m = f.createEntityManager(); m.getTransaction().begin();
 for (int i=1;i<4;i++){ Vessel v=new Vessel(); v.id=i; v.name="Tern's "+i; m.persist(v);} m.getTransaction().commit(); m.clear();
 for (int i=1;i<4;i++) m.find(Vessel.class,i);
 m.createQuery("select v from E$Vessel v where v.name = :n and v.id > :k").setParameter("n","x").setParameter("k",2).getResultList(); } }
