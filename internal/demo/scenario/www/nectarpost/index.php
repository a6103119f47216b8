<?php
// The page of Nectarpost: who reads the newsletter.
$env = [];
foreach (file(__DIR__ . '/.env', FILE_IGNORE_NEW_LINES) as $line) {
    if (preg_match('/^([A-Z_]+)=(["\']?)(.*)\2$/', $line, $m)) {
        $env[$m[1]] = $m[3];
    }
}
// The host may be the socket's folder, which a URL has in its encoded form.
preg_match('~^pgsql://([^:]*):([^@]*)@([^:/]*):(\d+)/(.*)$~', $env['DATABASE_URL'], $m);
[, $user, $password, $host, $port, $base] = array_map('rawurldecode', $m);
$link = new PDO("pgsql:host=$host;port=$port;dbname=$base", $user, $password, [PDO::ATTR_ERRMODE => PDO::ERRMODE_EXCEPTION]);

$all = $link->query('SELECT count(*) AS readers, (SELECT count(*) FROM letters) AS letters, (SELECT count(*) FROM deliveries) AS sent FROM readers')->fetch();
echo 'Nectarpost: ', number_format($all['readers']), ' readers got ', $all['letters'], ' letters, ', number_format($all['sent']), " deliveries in all\n";
foreach ($link->query('SELECT title, opened_share(id) AS share FROM letters ORDER BY share DESC, id LIMIT 3') as $row) {
    printf("  %-28s opened by %.1f %%\n", $row['title'], $row['share']);
}
