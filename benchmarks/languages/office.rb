# The office's pages with Active Record: row by row, eagerly loaded, counted. Arguments: system, file of marks.
require 'active_record'
require 'json'

system, marks = ARGV
adapter = { 'postgresql' => 'postgresql', 'mariadb' => 'mysql2' }[system]
host, port = system == 'postgresql' ? [ENV['PGHOST'], ENV['PGPORT']] : [ENV['MYSQL_HOST'], ENV['MYSQL_TCP_PORT']]
ActiveRecord::Base.establish_connection(adapter: adapter, host: host, port: port.to_i, username: 'harbour', password: 'tide', database: 'office')

class Vessel < ActiveRecord::Base; self.table_name = 'vessel'; end
class Tug < ActiveRecord::Base; self.table_name = 'tug'; end
class TugJob < ActiveRecord::Base
  self.table_name = 'tug_job'
  belongs_to :tug
end
class PortCall < ActiveRecord::Base
  self.table_name = 'port_call'
  belongs_to :vessel
  has_many :tug_jobs
end
class Berth < ActiveRecord::Base
  self.table_name = 'berth'
  has_many :port_calls
end

def due
  PortCall.where(status: 'due').order(:eta).limit(20)
end

pages = {
  'row by row' => -> { due.map { |call| [call.vessel.name, call.tug_jobs.map { |job| job.tug.name }] } },
  'eager' => -> { due.includes(:vessel, tug_jobs: :tug).map { |call| [call.vessel.name, call.tug_jobs.map { |job| job.tug.name }] } },
  'counted' => -> { Berth.order(:id).map { |berth| [berth.name, berth.port_calls.count] } },
}
File.open(marks, 'w') do |file|
  2.times do
    pages.each do |name, page|
      start = Time.now.to_f
      page.call
      file.puts({ name: name, start: start, end: Time.now.to_f }.to_json)
    end
  end
end
