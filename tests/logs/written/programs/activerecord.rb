require 'active_record'
require 'logger'
logger = Logger.new($stdout)
ActiveRecord::Base.logger = logger
ActiveRecord::Base.verbose_query_logs = ENV['V'] == '1'
ActiveRecord::Base.establish_connection(adapter: 'sqlite3', database: ':memory:')
ActiveRecord::Schema.define { create_table(:vessels) { |t| t.string :name }; create_table(:port_calls) { |t| t.integer :vessel_id } }
class Vessel < ActiveRecord::Base; end
class PortCall < ActiveRecord::Base; belongs_to :vessel; end
5.times { |n| v = Vessel.create!(name: "Tern's #{n}"); PortCall.create!(vessel: v) }
PortCall.all.each { |c| c.vessel.name }
Vessel.where(name: ["a", "b"]).count
Vessel.where("name = ?", "x").to_a
begin; Vessel.where("nothing = 1").to_a; rescue => e; end
ActiveRecord::Base.uncached { ActiveRecord::Base.cache { Vessel.find(1); Vessel.find(1) } }
