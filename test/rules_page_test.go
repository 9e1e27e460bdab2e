package test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"nightjar/api/model"
	"nightjar/test/browser"
)

// edit replaces words in the rule editor, as typing would.
func (b tab) edit(before, after string) {
	b.t.Helper()
	b.until("document.querySelector('.cm-content')")
	b.until(browser.Edit(before, after))
}

func TestRulesPage(t *testing.T) {
	t.Parallel()
	m := startQuickDemo(t, "--no-traffic")
	b := openTab(t, m)

	t.Run("mistakes as one types, from the service", func(t *testing.T) {
		b.t = t
		b.visit("/rules")
		b.says("[data-test=summary]", fmt.Sprintf("0 mistakes, 0 warnings; the same as revision %d", m.revision()))
		b.edit("{v1: 85, v2: 15}", "{v1: 80, v22: 15}")
		b.says("[data-test=finding-unknown-version]", "service sailings declares no version v22; expected one of v1, v2, v3 (nearest: v2)")
		b.says("[data-test=finding-weights]", "the weights add to 95, not to 100")
		b.until("document.querySelectorAll('.cm-lintRange-error').length === 2")
		b.until("document.querySelector('[data-test=publish]').disabled")
	})
	t.Run("the draft is kept in the service", func(t *testing.T) {
		b.t = t
		b.says("[data-test=saving]", "draft saved")
		b.visit("/rules")
		b.says("[data-test=finding-weights]", "the weights add to 95")
		b.edit("{v1: 80, v22: 15}", "{v1: 80, v2: 20}")
		b.says("[data-test=summary]", fmt.Sprintf("0 mistakes, 0 warnings; 1 difference to revision %d", m.revision()))
		b.click("show-difference")
		b.says("[data-test=difference] .cm-merge-a", "send: {v1: 85, v2: 15}")
		b.says("[data-test=difference] .cm-merge-b", "send: {v1: 80, v2: 20}")
	})
	t.Run("the second of two publishers is told and loses nothing", func(t *testing.T) {
		b.t = t
		b.says("[data-test=saving]", "draft saved")
		seen := m.revision()
		m.must(0, "split", "sailings", "v1=60", "v2=40")
		b.says("[data-test=overtaken]", fmt.Sprintf("was published meanwhile; your draft is based on revision %d and is saved", seen))
		b.click("publish")
		b.says("[data-test=refused]", fmt.Sprintf("revision %d was published meanwhile (yours is based on %d)", seen+1, seen))
		if out := m.must(0, "rules", "show"); !strings.Contains(out, "{v1: 60, v2: 40}") {
			t.Errorf("in force:\n%s", out)
		}
		b.click("rebase")
		b.until("!document.querySelector('[data-test=overtaken]')")
		b.do(chromedp.SendKeys(chromedp.CSS("[data-test=message]"), "four to one"))
		b.click("publish")
		b.says("[data-test=published]", fmt.Sprintf("Revision %d is in force in 12 of 12 connected proxies", seen+2))
		b.says("[data-test=saving]", fmt.Sprintf("unchanged from revision %d", seen+2))
		if got := m.call(100, "http://sailings/sailings/today"); answers(got) != "v1=80 v2=20" {
			t.Errorf("after publishing: %s", answers(got))
		}
		if out := m.must(0, "rules", "log"); !strings.Contains(out, "four to one") || !strings.Contains(out, "console") {
			t.Errorf("log:\n%s", out)
		}
	})
	t.Run("history: compare and restore", func(t *testing.T) {
		b.t = t
		b.visit("/rules?compare=1")
		b.says("[aria-label=History] .cm-merge-a", "send: {v1: 85, v2: 15}")
		next := m.revision() + 1
		b.click("restore-1")
		b.click("act-confirm")
		b.says("[data-test=restored]", fmt.Sprintf("Revision 1 was restored. Revision %d is in force in 12 of 12", next))
		b.says("[data-test=summary]", fmt.Sprintf("the same as revision %d", next))
	})
	t.Run("two windows on one draft", func(t *testing.T) {
		b.t = t
		b.visit("/rules")
		known := m.revision()
		b.says("[data-test=summary]", fmt.Sprintf("the same as revision %d", known))
		b.edit("owner: front-team", "owner: bow-team")
		b.says("[data-test=saving]", "draft saved")
		d, err := m.api.Draft(t.Context(), "main", "console")
		if err != nil || d.Base != uint(known) || !strings.Contains(d.Files[0].Text, "bow-team") {
			t.Fatalf("draft: %+v, %v", d, err)
		}
		if _, err := m.api.SaveDraft(t.Context(), "main", draftOf(d, "stern-team"), d.Version); err != nil {
			t.Fatal(err)
		}
		b.edit("owner: bow-team", "owner: mast-team")
		b.says("[data-test=changed-elsewhere]", "Nothing was overwritten")
		d, _ = m.api.Draft(t.Context(), "main", "console")
		if !strings.Contains(d.Files[0].Text, "stern-team") {
			t.Errorf("overwritten: %s", d.Files[0].Text)
		}
	})
	t.Run("completion knows the language and the names", func(t *testing.T) {
		b.t = t
		b.visit("/rules")
		b.click("discard")
		b.click("act-confirm")
		b.says("[data-test=saving]", fmt.Sprintf("unchanged from revision %d", m.revision()))
		b.edit("      - name: everything-else\n        send: v1", "      - name: everything-else\n        send: v1\n        ")
		b.until(`(() => { const c = document.querySelector(".cm-content"); const v = c.cmView?.view ?? c.cmTile?.view;
			const at = v.state.doc.toString().indexOf("send: v1\n        \n") + "send: v1\n        ".length;
			v.dispatch({selection: {anchor: at}}); v.focus(); return true; })()`)
		b.do(chromedp.KeyEvent("o"))
		b.says(".cm-tooltip-autocomplete", "otherwise")
		b.until("performance.now() > (window.after ??= performance.now() + 150)") // a list that only just opened takes nothing
		b.do(chromedp.Click(chromedp.CSS(".cm-tooltip-autocomplete li[aria-selected]")), chromedp.KeyEvent("v"))
		b.says(".cm-tooltip-autocomplete", "v3")
		b.until("![...document.querySelectorAll('.cm-tooltip-autocomplete li')].some(e => e.innerText === 'retry')")
	})
}

func draftOf(d model.Draft, owner string) model.DraftRequest {
	d.Files[0].Text = strings.Replace(d.Files[0].Text, "bow-team", owner, 1)
	return model.DraftRequest{Base: d.Base, Files: d.Files}
}
