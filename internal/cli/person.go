package cli

import (
	"context"
	"os"
	"os/exec"
	"runtime"
	"time"

	"golang.org/x/term"

	"testbench/internal/login"
)

// askPerson shows somebody what to do to let a login in, and opens the page where
// there is a screen to open it on.
func askPerson(s *session, p login.Prompt) {
	t := s.tell
	t.note("login %s: somebody has to agree, until %s. Open", t.visible(p.Login), p.Until.Format("15:04:05"))
	t.note("  %s", t.visible(p.Address))
	if p.Code != "" {
		t.note("and type in the code %s", t.visible(p.Code))
	}
	if canOpen(s) {
		openPage(p.Address)
	}
}

// canOpen says whether a browser would be seen by the one who runs the command.
func canOpen(s *session) bool {
	f, ok := s.stdin.(*os.File)
	if s.common.plain || !ok || !term.IsTerminal(int(f.Fd())) {
		return false
	}
	return runtime.GOOS != "linux" || os.Getenv("DISPLAY") != "" || os.Getenv("WAYLAND_DISPLAY") != ""
}

// openPage asks the system to open a page; that it cannot is not a failure, for
// the address was printed.
func openPage(address string) {
	command := map[string][]string{
		"darwin":  {"open"},
		"windows": {"rundll32", "url.dll,FileProtocolHandler"},
	}[runtime.GOOS]
	if command == nil {
		command = []string{"xdg-open"}
	}
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	opening := exec.CommandContext(ctx, command[0], append(command[1:], address)...)
	if opening.Start() != nil {
		cancel()
		return
	}
	go func() {
		defer cancel()
		_ = opening.Wait()
	}()
}
