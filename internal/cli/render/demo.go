package render

import "yellowfield/internal/demo"

// DemoLine writes what the demo says between its commands.
func (s *Screen) DemoLine(line demo.Line) {
	if line.Kind == demo.Command {
		s.printf("%s %s\n\n", quiet.Render("$"), strong.Render(line.Text))
		return
	}
	for _, text := range wrap(line.Text, s.width) {
		s.printf("%s\n", accent.Render(text))
	}
	s.Blank()
}
