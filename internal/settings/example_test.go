package settings_test

import (
	"fmt"

	"yellowfield/internal/settings"
)

// Only the value changes: blanks, quotes and remarks stay as they were.
func ExampleFile_With() {
	file, err := settings.Parse("store.php", []byte("<?php\ndefine('HIVE_HOST',  'localhost'); // the server\n"))
	if err != nil {
		fmt.Println(err)
		return
	}
	changed, err := file.With([]settings.Change{{Address: "HIVE_HOST", Value: "db.meadowgate.example"}})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Print(string(changed.Bytes()))
	// Output:
	// <?php
	// define('HIVE_HOST',  'db.meadowgate.example'); // the server
}
