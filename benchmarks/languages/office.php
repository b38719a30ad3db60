<?php
// The office's pages with Eloquent: row by row, eagerly loaded, counted. Arguments: system, file of marks.
require '/usr/share/php/Illuminate/Database/autoload.php';

use Illuminate\Database\Capsule\Manager;
use Illuminate\Database\Eloquent\Model;

[, $system, $marks] = $argv;
$capsule = new Manager();
$postgres = $system === 'postgresql';
$capsule->addConnection([
    'driver' => $postgres ? 'pgsql' : 'mysql', 'host' => getenv($postgres ? 'PGHOST' : 'MYSQL_HOST'),
    'port' => getenv($postgres ? 'PGPORT' : 'MYSQL_TCP_PORT'), 'database' => 'office', 'username' => 'harbour',
    'password' => 'tide', 'charset' => $postgres ? 'utf8' : 'utf8mb4',
]);
$capsule->setAsGlobal();
$capsule->bootEloquent();

class Office extends Model { public $timestamps = false; }
class Vessel extends Office { protected $table = 'vessel'; }
class Tug extends Office { protected $table = 'tug'; }
class TugJob extends Office { protected $table = 'tug_job'; function tug() { return $this->belongsTo(Tug::class); } }
class PortCall extends Office {
    protected $table = 'port_call';
    function vessel() { return $this->belongsTo(Vessel::class); }
    function jobs() { return $this->hasMany(TugJob::class, 'port_call_id'); }
}
class Berth extends Office { protected $table = 'berth'; function calls() { return $this->hasMany(PortCall::class, 'berth_id'); } }

function due() { return PortCall::where('status', 'due')->orderBy('eta')->limit(20); }
function shown($calls) { foreach ($calls as $call) { $call->vessel->name; foreach ($call->jobs as $job) { $job->tug->name; } } }

$pages = [
    'row by row' => function () { shown(due()->get()); },
    'eager' => function () { shown(due()->with('vessel', 'jobs.tug')->get()); },
    'counted' => function () { foreach (Berth::orderBy('id')->get() as $berth) { $berth->calls()->count(); } },
];
$file = fopen($marks, 'w');
for ($turn = 0; $turn < 2; $turn++) {
    foreach ($pages as $name => $page) {
        $start = microtime(true);
        $page();
        fwrite($file, json_encode(['name' => $name, 'start' => $start, 'end' => microtime(true)]) . "\n");
    }
}
