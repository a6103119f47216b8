<?php
/* The shop's front page. */
$file = __DIR__ . '/config/shop.php';
if (!is_file($file)) {
    exit("The shop is not set up yet: run setup/install.php.\n");
}
$settings = require $file;
$storage = $settings['storage'];
$way = $storage['socket'] === '' ? "host={$storage['server']}" : "unix_socket={$storage['socket']}";
$link = new PDO(
    "mysql:$way;dbname={$storage['name']};charset={$storage['charset']}",
    $storage['login']['user'], $storage['login']['secret']
);
echo $settings['title'], "\n";
foreach ($link->query('SELECT name, price_cents, stock FROM stall_jars ORDER BY id') as $jar) {
    printf("  %s, %.2f, %d jars\n", $jar['name'], $jar['price_cents'] / 100, $jar['stock']);
}
