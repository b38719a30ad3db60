<?php
require_once '/usr/share/php/Doctrine/DBAL/autoload.php'; require_once '/usr/share/php/Monolog/autoload.php';
$l = new Monolog\Logger('doctrine'); $l->pushHandler(new Monolog\Handler\StreamHandler('php://stdout'));
$cfg = new Doctrine\DBAL\Configuration(); $cfg->setMiddlewares([new Doctrine\DBAL\Logging\Middleware($l)]);
$c = Doctrine\DBAL\DriverManager::getConnection(['driver'=>'pdo_sqlite','memory'=>true],$cfg);
$c->executeStatement('CREATE TABLE vessel (id integer primary key, name text)');
$c->insert('vessel',['name'=>"Tern's\nx"]);
for($i=1;$i<4;$i++) $c->fetchAllAssociative("SELECT name\n FROM vessel WHERE id = ?",[$i]);
$c->beginTransaction(); $c->fetchAllAssociative('SELECT name FROM vessel WHERE id = :id AND name <> :n',['id'=>7,'n'=>null]); $c->commit();
