<?php
/*
 * The shop's installer: asks for the database, makes the tables, writes the
 * settings. A web page in real life, here on the command line.
 */
function ask(string $what, string $default = ''): string
{
    echo $what, $default === '' ? ': ' : " [$default]: ";
    $answer = trim((string) fgets(STDIN));
    echo str_contains($what, 'Password') ? '********' : $answer, "\n";
    return $answer === '' ? $default : $answer;
}

$server = ask('Database server', 'localhost');
$name = ask('Database name');
$user = ask('User');
$secret = ask('Password');

try {
    $link = new PDO("mysql:host=$server;dbname=$name;charset=utf8mb4", $user, $secret);
    $link->exec('CREATE TABLE stall_jars (id INT PRIMARY KEY AUTO_INCREMENT, name VARCHAR(80) NOT NULL,
        price_cents INT NOT NULL, stock INT NOT NULL) ENGINE=InnoDB');
    $link->exec('CREATE TABLE stall_orders (id INT PRIMARY KEY AUTO_INCREMENT, jar INT NOT NULL, number INT NOT NULL,
        ordered TIMESTAMP NOT NULL DEFAULT CURRENT_TIMESTAMP, FOREIGN KEY (jar) REFERENCES stall_jars (id)) ENGINE=InnoDB');
    $jars = $link->prepare('INSERT INTO stall_jars (name, price_cents, stock) VALUES (?, ?, ?)');
    foreach ([['Rape blossom, creamy 🌼', 650, 48], ['Lindenblüte', 780, 12], ['Гречишный мёд', 820, 7]] as $jar) {
        $jars->execute($jar);
    }
} catch (PDOException $e) {
    fwrite(STDERR, 'The database says: ' . $e->getMessage() . "\n");
    exit(1);
}

$settings = [
    'title' => "Meadowgate honey stall",
    'mail' => ['server' => 'mail.meadowgate.example', 'login' => ['user' => 'shop', 'secret' => 'mail-word']],
    'storage' => [
        'driver' => 'mysql', 'server' => $server, 'socket' => '', 'name' => $name, 'charset' => 'utf8mb4',
        'login' => ['user' => $user, 'secret' => $secret],
    ],
];
file_put_contents(__DIR__ . '/../config/shop.php', "<?php\nreturn " . var_export($settings, true) . ";\n");
chmod(__DIR__ . '/../config/shop.php', 0640);
echo "Done: 2 tables made, config/shop.php written.\n";
