require 'sequel'; require 'logger'
DB = Sequel.sqlite(loggers: [Logger.new($stdout)])
DB.create_table(:vessels){primary_key :id; String :name}
3.times{|n| DB[:vessels].insert(name: "Tern's #{n}")}
class Vessel < Sequel::Model; end
(1..3).each{|k| Vessel[k]}
DB["SELECT nothing"].all rescue 0
