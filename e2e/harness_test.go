package e2e

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/launcher"
	"github.com/go-rod/rod/lib/launcher/flags"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/require"

	"millgate/standin"
)

var program string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "millgate-e2e-")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "millgate")
	if out, err := exec.Command("go", "build", "-o", program, "../cmd/millgate").CombinedOutput(); err != nil {
		fmt.Println(string(out))
		os.Exit(1)
	}
	// The same for all tests, which run beside each other.
	secrets := standin.Secrets()
	secrets["ANN_KEY"] = "key-of-ann"
	for _, n := range []string{"ida", "ole", "liv"} { // of the reading room
		secrets[strings.ToUpper(n)] = "password-of-" + n
	}
	for k, v := range secrets {
		if err := os.Setenv(k, v); err != nil {
			panic(err)
		}
	}
	code := m.Run()
	if browser != nil {
		_ = browser.Close()
	}
	_ = os.RemoveAll(dir)
	os.Exit(code)
}

var address = regexp.MustCompile(`Mill Gate is at (http://\S+)`)

var anything = regexp.MustCompile(`.`)

// patience is how long a test waits for what must come: no machine that works is slower,
// and what comes is never waited for longer than it takes.
const patience = 5 * time.Minute

// run starts the program with arguments and returns the address it prints.
func run(t testing.TB, args ...string) string {
	t.Helper()
	cmd := exec.Command(program, args...)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	var log strings.Builder
	cmd.Stderr = &log
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait()
		if t.Failed() {
			t.Log(log.String())
		}
	})
	found := make(chan string, 1)
	go func() {
		s := bufio.NewScanner(out)
		for s.Scan() {
			if m := address.FindStringSubmatch(s.Text()); m != nil {
				found <- m[1]
			}
		}
	}()
	select {
	case a := <-found:
		return a
	case <-time.After(patience):
		t.Fatal("the program did not say where it is: " + log.String())
		return ""
	}
}

func demo(t testing.TB, more ...string) string {
	return run(t, append([]string{"demo", "--listen", "127.0.0.1:0", "--stand-in", "127.0.0.1:0"}, more...)...)
}

var (
	browser *rod.Browser
	once    sync.Once
)

func chromium(t testing.TB) *rod.Browser {
	t.Helper()
	once.Do(func() {
		path, ok := launcher.LookPath()
		require.True(t, ok, "Chromium is not installed; make chromium installs it")
		l := launcher.New().Bin(path).Headless(true).NoSandbox(true).
			Set("disable-gpu").Set("disable-quic").Set("no-first-run").Set("disable-background-networking").
			Set("disable-component-update").Set("disable-sync").Set(flags.Flag("force-prefers-reduced-motion"))
		browser = rod.New().ControlURL(l.MustLaunch()).MustConnect()
	})
	return browser
}

// Page is one page with what went wrong on its console.
type Page struct {
	*rod.Page
	t       testing.TB
	mu      sync.Mutex
	console []string
	allow   *regexp.Regexp // what may stand on the console
}

// open opens an address at 1280x800 in a browser context of its own.
func open(t testing.TB, url, theme string) *Page {
	t.Helper()
	return openFirst(t, url, theme, `if (self === top) localStorage.setItem('millgate.explained', 'true')`)
}

// openFirst is open for somebody who was never there before; prepare runs in each page first.
func openFirst(t testing.TB, url, theme, prepare string) *Page {
	t.Helper()
	b := chromium(t).MustIncognito()
	t.Cleanup(func() { _ = b.Close() })
	p := &Page{Page: b.MustPage().Timeout(4 * patience), t: t} // nothing waits for ever
	p.MustSetViewport(1280, 800, 1, false)
	p.MustEvalOnNewDocument(prepare)
	scheme := []*proto.EmulationMediaFeature{{Name: "prefers-color-scheme", Value: theme}}
	require.NoError(t, proto.EmulationSetEmulatedMedia{Features: scheme}.Call(p))
	go p.EachEvent(func(e *proto.RuntimeConsoleAPICalled) {
		if e.Type == proto.RuntimeConsoleAPICalledTypeError || e.Type == proto.RuntimeConsoleAPICalledTypeWarning {
			p.mu.Lock()
			defer p.mu.Unlock()
			for _, a := range e.Args {
				p.console = append(p.console, a.Description+a.Value.String())
			}
		}
	}, func(e *proto.RuntimeExceptionThrown) {
		p.mu.Lock()
		defer p.mu.Unlock()
		p.console = append(p.console, e.ExceptionDetails.Text)
	}, func(e *proto.LogEntryAdded) {
		if e.Entry.Level == proto.LogLogEntryLevelError {
			p.mu.Lock()
			defer p.mu.Unlock()
			p.console = append(p.console, e.Entry.Text+" "+e.Entry.URL)
		}
	})()
	require.NoError(t, proto.LogEnable{}.Call(p))
	p.MustNavigate(url).MustWaitLoad()
	t.Cleanup(func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		for _, c := range p.console {
			if p.allow == nil || !p.allow.MatchString(c) {
				t.Errorf("the console has an error: %s", c)
			}
		}
	})
	return p
}

// see waits until an element that matches css shows text (a regular
// expression).
func (p *Page) see(css, text string) *rod.Element {
	p.t.Helper()
	e, err := p.Timeout(patience).ElementR(css, text)
	if err != nil {
		p.t.Fatalf("no %s shows %q (see %s): %v", css, text, p.shot(), err)
	}
	return e
}

// shot keeps what the page shows, for who reads why a test failed.
func (p *Page) shot() string {
	file := filepath.Join(os.TempDir(), p.t.Name()+".png")
	_ = os.WriteFile(file, p.MustScreenshot(), 0o600)
	return file
}

// gone waits until nothing that matches css shows text.
func (p *Page) gone(css, text string) {
	p.t.Helper()
	re := regexp.MustCompile(text)
	require.Eventually(p.t, func() bool {
		for _, e := range p.MustElements(css) {
			if s, err := e.Text(); err == nil && re.MatchString(s) {
				return false
			}
		}
		return true
	}, patience, 50*time.Millisecond, "%s still shows %q", css, text)
}

// click clicks what shows a text. A dialog grows as it opens: what is clicked
// in one must stand still first, or the click hits what lies behind. Elsewhere something
// may arrive between looking and clicking, and move it away: who misses clicks again.
func (p *Page) click(css, text string) {
	p.t.Helper()
	p.strike(css+" "+text, func() *rod.Element {
		el := p.see(css, text)
		if strings.Contains(css, "dialog") {
			require.NoError(p.t, el.WaitStable(150*time.Millisecond), "%s keeps moving", css)
		}
		return el
	}, func(el *rod.Element) error { return el.Timeout(10*time.Second).Click(proto.InputMouseButtonLeft, 1) })
}

// strike clicks what is found until it is hit. What was drawn anew meanwhile never comes to stand anywhere: it is
// looked for again.
func (p *Page) strike(what string, find func() *rod.Element, click func(*rod.Element) error) {
	p.t.Helper()
	for end := time.Now().Add(patience); ; {
		el := find()
		missed := struck(el, func() error { return click(el) })
		if missed == nil {
			return
		}
		if time.Now().After(end) {
			p.t.Fatalf("%s cannot be hit (see %s): %v", what, p.shot(), missed)
		}
	}
}

var errMissed = errors.New("the click went elsewhere")

// struck clicks, and says whether the element was hit or went with the page.
func struck(el *rod.Element, click func() error) error {
	_, err := el.Eval(`() => { this.wasHit = false
		this.addEventListener('click', () => { this.wasHit = true }, { once: true, capture: true }) }`)
	if err == nil {
		err = click()
	}
	if err != nil {
		return err
	}
	if hit, err := el.Eval(`() => this.wasHit`); err == nil && !hit.Value.Bool() {
		return errMissed
	}
	return nil
}

func (p *Page) press(keys ...input.Key) {
	p.t.Helper()
	for _, k := range keys {
		p.Keyboard.MustType(k)
	}
}

// sweepDone starts the first sweep from the strip and waits for its end.
func (p *Page) sweepDone() {
	p.t.Helper()
	p.sweep(`\d+`)
}

// sweep starts a sweep from the strip and waits for the end of the one with a number.
func (p *Page) sweep(number string) {
	p.t.Helper()
	p.click("footer button", "^Start sweep$")
	p.click(".dialog button", "^Start sweep$")
	p.swept("Sweep "+number, "")
}

// swept waits until the strip says how a sweep ended.
func (p *Page) swept(which, what string) {
	p.t.Helper()
	p.see("footer [role=status]", `^`+which+`,\s+(just now|\d+ (s|min) ago)`+what)
}

// hit clicks in the middle of an element, whatever is drawn there.
func (p *Page) hit(css string) {
	p.t.Helper()
	p.strike(css, func() *rod.Element { return p.MustElement(css) }, func(el *rod.Element) error {
		b := el.MustScrollIntoView().MustShape().Box()
		p.Mouse.MustMoveTo(b.X+b.Width/2, b.Y+b.Height/2)
		return p.Mouse.Click(proto.InputMouseButtonLeft, 1)
	})
}

// allowed lets a status stand on the console, where a test provokes it.
func allowed(status int) *regexp.Regexp {
	return regexp.MustCompile(fmt.Sprintf("status of %d", status))
}
