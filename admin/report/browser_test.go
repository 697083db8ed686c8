package report_test

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/internal/browsertest"
)

// measure is run in the page. Contrasts are those of WCAG 2.2 §1.4.3: at least 4.5 for text, 3 for large
// text, and 3 for what a plot is made of (§1.4.11).
const measure = `(() => {
  const channel = v => { v /= 255; return v <= 0.04045 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4; };
  const light = c => 0.2126 * channel(c[0]) + 0.7152 * channel(c[1]) + 0.0722 * channel(c[2]);
  const ratio = (a, b) => { const [x, y] = [light(a), light(b)].sort((p, q) => q - p); return (x + 0.05) / (y + 0.05); };
  const parse = text => text.match(/[\d.]+/g).map(Number);
  const hex = text => [1, 3, 5].map(i => parseInt(text.trim().slice(i, i + 2), 16));
  const ground = e => {
    for (; e; e = e.parentElement) { const c = parse(getComputedStyle(e).backgroundColor); if (c.length < 4 || c[3] > 0) return c; }
    return [255, 255, 255];
  };
  const poor = [];
  let texts = 0;
  for (const e of document.querySelectorAll('body *')) {
    if (![...e.childNodes].some(n => n.nodeType === 3 && n.textContent.trim()) || e.tagName === 'title') continue;
    const s = getComputedStyle(e), size = parseFloat(s.fontSize), big = size >= 24 || size >= 18.66 && parseInt(s.fontWeight) >= 700;
    const r = ratio(parse(e.tagName === 'text' ? s.fill : s.color), ground(e));
    texts++;
    if (r < (big ? 3 : 4.5)) poor.push(e.textContent.trim().slice(0, 40) + ': ' + r.toFixed(2));
  }
  const root = getComputedStyle(document.documentElement), page = hex(root.getPropertyValue('--ground'));
  for (const name of ['--granted', '--asked', '--blocked']) {
    const r = ratio(hex(root.getPropertyValue(name)), page);
    if (r < 3) poor.push(name + ': ' + r.toFixed(2));
  }
  const sixth = document.querySelector('#troubles tbody tr:nth-child(6)').getBoundingClientRect();
  return {Texts: texts, Poor: poor, Beyond: document.documentElement.scrollWidth - window.innerWidth, Sixth: sixth.bottom,
    Dark: light(page) < 0.2};
})()`

type measured struct {
	Texts         int
	Poor          []string
	Beyond, Sixth float64
	Dark          bool
}

// TestThePageInABrowser measures the page in Chromium, on a screen and on a phone, in light and dark.
func TestThePageInABrowser(t *testing.T) {
	ctx := browsertest.Open(t)
	_, r := ofDemo(t)
	var page bytes.Buffer
	require.NoError(t, r.WriteHTML(&page))
	path := filepath.Join(t.TempDir(), "month.html")
	require.NoError(t, os.WriteFile(path, page.Bytes(), 0o600))
	for name, c := range map[string]struct {
		width, height int64
		scheme        string
	}{
		"a screen":           {1280, 800, "light"},
		"a screen, at night": {1280, 800, "dark"},
		"a phone":            {390, 844, "light"},
		"a phone, at night":  {390, 844, "dark"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := chromedp.Call(ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
				Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: c.scheme}}})
			require.NoError(t, err)
			require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(c.width, c.height), chromedp.Navigate("file://"+path)))
			found, err := chromedp.Run(ctx, chromedp.Evaluate[measured](measure))
			require.NoError(t, err)
			require.Equal(t, c.scheme == "dark", found.Dark)
			require.Greater(t, found.Texts, 500)
			require.Empty(t, found.Poor, "text that is hard to read")
			require.LessOrEqual(t, found.Beyond, 0.0, "nothing reaches beyond the page")
			if c.width > 1000 {
				require.LessOrEqual(t, found.Sixth, 800.0, "the six troubles are on the first page")
			}
		})
	}
}
