package e2e

import (
	"os"
	"testing"
	"time"
)

func shot(p *Page, name string) {
	time.Sleep(900 * time.Millisecond)
	_ = os.MkdirAll("/tmp/shots", 0o755)
	_ = os.WriteFile("/tmp/shots/"+name+".png", p.MustScreenshot(), 0o600)
}

func TestLook(t *testing.T) {
	url := demo(t)
	p := open(t, url, "light")
	p.see(".path", "calendar")
	p.sweepDone()
	p.MustNavigate(url + "/board?lens=quotas")
	p.see(".path", "calendar")
	shot(p, "qlens")
	p.MustNavigate(url + "/board?lens=quotas&route=POST%20/v1/cutouts&caller=counted:identity")
	p.see("h2", "The calls")
	shot(p, "qdrawer")
	q := open(t, url+"/board?lens=quotas&route=POST%20/v1/cutouts&caller=counted:identity", "dark")
	q.see("h2", "The calls")
	shot(q, "qdrawer-dark")
}
