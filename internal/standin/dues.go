package standin

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"orenda/internal/schema"
	"orenda/internal/xmltree"
)

// invoice is what a vessel owes.
type invoice struct {
	total float64
	paid  bool
}

// tonnage and landing are the harbour's rates, in crowns.
const (
	perTonNight = 0.07
	perTonne    = 1.25
	perBox      = 38.5
)

// dues assesses stays and takes payments; the sums are kept while the harbour
// is open.
func dues(h *Harbour, op string, body xmltree.Node) (string, *fault) {
	switch op {
	case "Assess":
		return h.assess(body)
	case "Pay":
		return h.pay(body)
	}
	return "", nil
}

func money(v float64) string { return strconv.FormatFloat(math.Round(v*100)/100, 'f', 2, 64) }

func (h *Harbour) assess(body xmltree.Node) (string, *fault) {
	sign := first(body, "callSign")
	if !known(sign) {
		return "", &fault{code: "Client", reason: "the register has no vessel with the call sign " + sign,
			detail: `<UnknownVessel xmlns="urn:skerry:dues"><callSign>` + xmltree.EscapeText(
				sign,
			) + `</callSign></UnknownVessel>`}
	}
	tonnage, _ := strconv.ParseFloat(first(body, "grossTonnage"), 64)
	nights, _ := strconv.Atoi(first(body, "nights"))
	if from, err := time.Parse("2006-01-02", first(body, "arrival")); err == nil {
		until, err := time.Parse("2006-01-02", first(body, "departure"))
		if err != nil || until.Before(from) {
			return "", &fault{code: "Client", reason: "the departure is before the arrival"}
		}
		nights = int(until.Sub(from).Hours() / 24)
	}
	type line struct {
		item   string
		amount float64
	}
	quay := tonnage * perTonNight * float64(nights)
	switch first(body, "rebate") {
	case "home fleet":
		quay /= 2
	case "training":
		quay = 0
	}
	lines := []line{{fmt.Sprintf("quay dues, %d nights", nights), quay}}
	for c := range body.Named("urn:skerry:dues", "cargo") {
		goods := first(c, "goods")
		if t, err := strconv.ParseFloat(first(c, "tonnes"), 64); err == nil {
			lines = append(lines, line{"landing " + goods, t * perTonne})
		} else if n, err := strconv.Atoi(first(c, "count")); err == nil {
			lines = append(lines, line{"landing " + goods, float64(n) * perBox})
		}
	}
	total := 0.0
	var b strings.Builder
	for _, l := range lines {
		total += math.Round(l.amount*100) / 100
		fmt.Fprintf(
			&b,
			"\n      <line><item>%s</item><amount>%s</amount></line>",
			xmltree.EscapeText(l.item),
			money(l.amount),
		)
	}
	h.mu.Lock()
	number := fmt.Sprintf("D-%04d", 1000+len(h.invoices))
	h.invoices[number] = &invoice{total: total}
	h.mu.Unlock()
	return fmt.Sprintf(
		"    <AssessResponse xmlns=\"urn:skerry:dues\">\n      <invoice>%s</invoice>%s\n      <total>%s</total>\n    "+
			"  <due>%s</due>\n    </AssessResponse>",
		number,
		b.String(),
		money(total),
		time.Now().AddDate(0, 0, 30).Format("2006-01-02"),
	), nil
}

func (h *Harbour) pay(body xmltree.Node) (string, *fault) {
	number := first(body, "invoice")
	amount, _ := strconv.ParseFloat(first(body, "amount"), 64)
	h.mu.Lock()
	defer h.mu.Unlock()
	i := h.invoices[number]
	switch {
	case i == nil:
		return "", &fault{code: "Client", reason: "there is no invoice " + number}
	case i.paid:
		return "", &fault{code: "Client", reason: "the invoice " + number + " is paid already"}
	case money(amount) != money(i.total):
		return "", &fault{code: "Client", reason: "the amount is not what is due",
			detail: `<AmountDiffers xmlns="urn:skerry:dues"><due>` + money(
				i.total,
			) + `</due><paid>` + money(
				amount,
			) + `</paid></AmountDiffers>`}
	}
	i.paid = true
	return fmt.Sprintf(
		"    <PayResponse xmlns=\"urn:skerry:dues\"><receipt>R-%s</receipt><paidAt>%s</paidAt></PayResponse>",
		number[2:],
		time.Now().UTC().Format(time.RFC3339),
	), nil
}

func known(sign string) bool {
	for _, r := range register {
		if r.sign == sign {
			return true
		}
	}
	return false
}

// clerk is the header block that the dues are entered under.
//
//nolint:gochecknoglobals // a table: it is never written to
var clerk = schema.QName{Space: "urn:skerry:dues", Local: "Clerk"}
