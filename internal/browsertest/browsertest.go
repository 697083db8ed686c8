// Package browsertest opens Debian's Chromium for tests of pages.
package browsertest

import (
	"context"
	"os"
	"os/exec"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// Open returns a context in which chromedp works with a browser of the test's own, for two minutes at
// most. Where there is no Chromium the test fails in CI, and is skipped elsewhere.
func Open(t *testing.T) context.Context {
	t.Helper()
	browser, err := exec.LookPath("chromium")
	if err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("there is no chromium, which scripts/test installs in CI")
		}
		t.Skip("there is no chromium")
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(browser), chromedp.NoSandbox,
		chromedp.WSURLReadTimeout(time.Minute))
	allocated, end := chromedp.NewExecAllocator(context.Background(), options...)
	opened, closeBrowser := chromedp.NewContext(allocated)
	bounded, cancel := context.WithTimeout(opened, 2*time.Minute)
	t.Cleanup(func() { cancel(); closeBrowser(); end() })
	return bounded
}
