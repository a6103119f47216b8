<?php
// The page of Broodgauge: how warm it is in the hives.
require __DIR__ . '/conf/gauge.php';

mysqli_report(MYSQLI_REPORT_ERROR | MYSQLI_REPORT_STRICT);
$store = $gauge['store'];
$link = new mysqli($store['host'], $store['user'], $store['password'], $store['name']);
$link->set_charset('utf8mb4');

$all = $link->query('SELECT COUNT(*) AS n, MAX(taken) AS last FROM readings')->fetch_assoc();
echo 'Broodgauge: ', number_format($all['n']), ' readings, the last one of ', $all['last'], "\n";
foreach ($link->query('SELECT s.hive, celsius(w.raw) AS warm FROM warmest w JOIN sensors s ON s.code = w.sensor ORDER BY w.raw DESC, s.hive LIMIT 3') as $row) {
    printf("  %-10s %.1f °C at most\n", $row['hive'], $row['warm']);
}
