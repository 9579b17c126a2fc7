package e2e

import (
	"os"
	"testing"
	"time"
)

func TestLook(t *testing.T) {
	if os.Getenv("LOOK") == "" {
		t.Skip()
	}
	_ = os.MkdirAll("/tmp/shots", 0o755)
	url := demo(t)
	shot := func(p *Page, name string) {
		time.Sleep(700 * time.Millisecond)
		_ = os.WriteFile("/tmp/shots/"+name+".png", p.MustScreenshot(), 0o644)
	}
	p := open(t, url+"/board?edit=1&q=/dome", "light")
	p.see("[role=rowheader]", "/slew")
	p.hit("[aria-label^='imre, POST /v1/dome/slew']")
	p.hit("[aria-label^='tove, POST /v1/dome/slew']")
	shot(p, "edit1")
	p.click("button", "^Admit$")
	p.see(".pending [role=status]", "crossing")
	p.click(".pending .what", "pending")
	shot(p, "edit2")
	p.MustNavigate(url + "/board?sheet=POST%20/v1/frames")
	p.see("aside", "Who reaches it")
	shot(p, "sheet")
	p.MustNavigate(url + "/declaration?panel=effect")
	p.see("aside", "On the board")
	shot(p, "decl-effect")
	p.MustNavigate(url + "/declaration")
	p.see(".cm-content", "millgate")
	shot(p, "decl-review")
	p.MustNavigate(url + "/import")
	p.see("h1", "Bring in routes")
	shot(p, "import1")
}
