<?php
// Smokerloan. Copy this file to settings.php and fill it in.

$loan = [
    'title' => 'Meadowgate tool lending',
    'days' => 14, // how long a tool may be kept

    // Reminders go out by mail.
    'mail' => [
        'host' => 'mail.meadowgate.example',
        'user' => 'loans',
        'password' => 'stamp-and-seal',
    ],
];

/* Where the tools are written down. */
$loan['store']['driver'] = 'mysqli';
$loan['store']['server'] = 'localhost';
$loan['store']['base'] = 'loans';
$loan['store']['login'] = 'loans';
$loan['store']['word'] = 'change-me';
$loan['store']['table_prefix'] = 'sl_';
// $loan['store']['port'] = 3306;
