package diagnose

import (
	"fmt"
	"strings"

	"orenda/internal/exchange"
)

// Rules of the first four stages, which need no network.
//
//nolint:gochecknoglobals // a table: it is never written to
var offlineRules = []Rule{
	{"address.variable-unset", exchange.Stop, exchange.Yours, variableUnset},
	{"address.variable-cyclic", exchange.Stop, exchange.Yours, variableCyclic},
	{"address.variable-withheld", exchange.Stop, exchange.Yours, variableWithheld},
	{"address.environment-unknown", exchange.Stop, exchange.Yours, environmentUnknown},
	{"address.malformed", exchange.Stop, exchange.Yours, addressMalformed},
	{"address.scheme-unsupported", exchange.Stop, exchange.Yours, schemeUnsupported},
	{"address.from-contract", exchange.Note, exchange.Yours, fromContract},

	{"binding.endpoint-ambiguous", exchange.Stop, exchange.Yours, endpointAmbiguous},
	{"binding.endpoint-missing", exchange.Stop, exchange.Yours, endpointMissing},
	{"binding.operation-unknown", exchange.Stop, exchange.Yours, operationUnknown},
	{"binding.version-differs", exchange.Warn, exchange.Yours, versionDiffers},
	{"binding.action-differs", exchange.Warn, exchange.Yours, actionDiffers},
	{"binding.addressing-demanded", exchange.Warn, exchange.Yours, addressingDemanded},
	{"binding.protocol-demanded", exchange.Warn, exchange.Yours, protocolDemanded},
	{"binding.buffer-differs", exchange.Warn, exchange.Yours, bufferDiffers},
	{"binding.limits-contradict", exchange.Warn, exchange.Yours, limitsContradict},
	{"binding.limit-too-small", exchange.Warn, exchange.Yours, limitTooSmall},
	{"binding.time-limits-contradict", exchange.Note, exchange.Yours, timeLimitsContradict},
	{"binding.limit-invalid", exchange.Stop, exchange.Yours, limitInvalid},
	{"binding.time-limit-invalid", exchange.Stop, exchange.Yours, timeLimitInvalid},
	{"binding.value-invalid", exchange.Stop, exchange.Yours, valueInvalid},

	{"message.not-well-formed", exchange.Stop, exchange.Yours, draftNotWellFormed},
	{"message.variable-unset", exchange.Stop, exchange.Yours, draftVariableUnset},
	{"message.placeholder-left", exchange.Warn, exchange.Yours, placeholderLeft},
	{"message.body-differs", exchange.Warn, exchange.Yours, bodyDiffers},
	{"message.namespace-differs", exchange.Warn, exchange.Yours, namespaceDiffers},
	{"message.invalid", exchange.Warn, exchange.Yours, messageInvalid},
	{"message.header-left-out", exchange.Note, exchange.Yours, headerLeftOut},
	{"message.empty-value", exchange.Note, exchange.Yours, emptyValue},
	{"message.file-new", exchange.Stop, exchange.Yours, fileNew(exchange.Message)},
	{"message.too-large", exchange.Stop, exchange.Yours, messageTooLarge},
	{"message.security-in-draft", exchange.Warn, exchange.Yours, securityInDraft},

	{"security.token-demanded", exchange.Warn, exchange.Yours, tokenDemanded},
	{"security.algorithms-differ", exchange.Warn, exchange.Yours, algorithmsDiffer},
	{"security.identity-unknown", exchange.Stop, exchange.Yours, identityUnknown},
	{"security.identity-host-new", exchange.Stop, exchange.Yours, identityHostNew},
	{"security.secret-unavailable", exchange.Stop, exchange.Yours, secretUnavailable},
	{"security.secret-locked", exchange.Stop, exchange.Yours, secretLocked},
	{"security.password-type-unknown", exchange.Stop, exchange.Yours, passwordTypeUnknown},
	{"security.signer-failed", exchange.Stop, exchange.Yours, signerFailed},
	{"security.key-unreadable", exchange.Stop, exchange.Yours, keyUnreadable},
	{"security.signing-key-missing", exchange.Stop, exchange.Yours, signingKeyMissing},
	{"security.part-missing", exchange.Stop, exchange.Yours, partMissing},
	{"security.signature-weak", exchange.Warn, exchange.Yours, ownSignatureWeak},
	{"security.key-mismatch", exchange.Stop, exchange.Yours, keyMismatch},
	{"security.certificate-expired", exchange.Stop, exchange.Yours, ownCertificateExpired},
	{"security.certificate-unfit", exchange.Warn, exchange.Yours, ownCertificateUnfit},
	{"security.secret-unverified", exchange.Stop, exchange.Yours, secretUnverified},
	{"security.file-new", exchange.Stop, exchange.Yours, fileNew(exchange.Security)},
	{"security.key-log-new", exchange.Stop, exchange.Yours, keyLogNew},
	{"security.clear-text", exchange.Warn, exchange.Yours, clearText},
}

func orNone(s string) string {
	if s == "" {
		return "(none)"
	}
	return s
}

func list(items []string, most int) string {
	if len(items) > most {
		return strings.Join(items[:most], ", ") + fmt.Sprintf(" and %d more", len(items)-most)
	}
	return strings.Join(items, ", ")
}

// address is the resolved address, as recorded.
func (c *Case) address() string {
	if v := c.X.Stage(exchange.Address).Facts.Get("resolved"); v != "" {
		return v
	}
	return c.Settings.Text("address")
}
