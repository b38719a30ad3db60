// The office's pages with JPA: row by row, eagerly loaded, counted. Arguments: system, file of marks.
import java.io.FileWriter;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import javax.persistence.*;

public class Office {
  @Entity @Table(name = "vessel") public static class Vessel { @Id public Integer id; public String name; }
  @Entity @Table(name = "tug") public static class Tug { @Id public Integer id; public String name; }
  @Entity @Table(name = "berth") public static class Berth { @Id public Integer id; public String name; }
  @Entity @Table(name = "tug_job") public static class TugJob {
    @Id public Integer id;
    @ManyToOne @JoinColumn(name = "tug_id") public Tug tug;
    @ManyToOne @JoinColumn(name = "port_call_id") public PortCall call;
  }
  @Entity @Table(name = "port_call") public static class PortCall {
    @Id public Integer id;
    public String status;
    @Column(name = "berth_id") public Integer berth;
    @ManyToOne @JoinColumn(name = "vessel_id") public Vessel vessel;
    @OneToMany(mappedBy = "call") public List<TugJob> jobs;
  }

  static String due = "SELECT c FROM Office$PortCall c WHERE c.status = 'due' ORDER BY c.id";

  static void shown(List<PortCall> calls) {
    for (PortCall call : calls) { call.vessel.name.length(); for (TugJob job : call.jobs) job.tug.name.length(); }
  }

  public static void main(String[] words) throws Exception {
    boolean postgres = words[0].equals("postgresql");
    Map<String, String> given = new HashMap<>();
    given.put("javax.persistence.jdbc.url", postgres
        ? "jdbc:postgresql://" + System.getenv("PGHOST") + ":" + System.getenv("PGPORT") + "/office"
        : "jdbc:mariadb://" + System.getenv("MYSQL_HOST") + ":" + System.getenv("MYSQL_TCP_PORT") + "/office");
    given.put("javax.persistence.jdbc.driver", postgres ? "org.postgresql.Driver" : "org.mariadb.jdbc.Driver");
    given.put("javax.persistence.jdbc.user", "harbour");
    given.put("javax.persistence.jdbc.password", "tide");
    given.put("eclipselink.logging.level", "OFF");
    given.put("eclipselink.weaving", "false");
    given.put("eclipselink.cache.shared.default", "false");
    EntityManagerFactory factory = Persistence.createEntityManagerFactory("office", given);
    factory.createEntityManager().close();
    FileWriter file = new FileWriter(words[1]);
    for (int turn = 0; turn < 2; turn++) {
      for (String name : new String[] {"row by row", "eager", "counted"}) {
        double start = System.currentTimeMillis() / 1e3;
        EntityManager office = factory.createEntityManager();
        if (name.equals("row by row")) {
          shown(office.createQuery(due, PortCall.class).setMaxResults(20).getResultList());
        } else if (name.equals("eager")) {
          Query query = office.createQuery(due, PortCall.class).setMaxResults(20);
          for (String path : new String[] {"c.vessel", "c.jobs", "c.jobs.tug"})
            query.setHint("eclipselink.batch", path).setHint("eclipselink.batch.type", "IN");
          shown((List<PortCall>) query.getResultList());
        } else {
          for (Object berth : office.createQuery("SELECT b FROM Office$Berth b ORDER BY b.id").getResultList())
            office.createQuery("SELECT COUNT(c) FROM Office$PortCall c WHERE c.berth = :berth")
                .setParameter("berth", ((Berth) berth).id).getSingleResult();
        }
        office.close();
        double end = Math.ceil((System.currentTimeMillis() + 1)) / 1e3;
        file.write("{\"name\": \"" + name + "\", \"start\": " + start + ", \"end\": " + end + "}\n");
        Thread.sleep(5);
      }
    }
    file.close();
    factory.close();
  }
}
