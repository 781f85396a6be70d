package sheet

// StepKeys are the keys of steps, and StepKindKeys those that each kind takes beside its
// own, as the tests go through them.
func StepKeys() []string { return namesOf(stepKeys, func(k key[Step]) string { return k.name }) }

// StepKindKeys are the keys of each kind of step.
func StepKindKeys() map[string][]string {
	kinds := map[string][]string{}
	for _, k := range stepKinds {
		kinds[k.word] = k.keys
	}
	return kinds
}

// WhatOf is what a kind of step is called in messages.
func WhatOf(word string) string {
	for _, k := range stepKinds {
		if k.word == word {
			return k.what
		}
	}
	return ""
}

// PartKeys are the keys of a part of a batch.
func PartKeys() []string { return ofPart }

// KeysOf are the keys of the other mappings of files.
func KeysOf() map[string][]string {
	return map[string][]string{
		"expect": names(expectKeys), "service": names(serviceKeys), "site": names(siteKeys), "tls": names(tlsKeys), "proxy": names(proxyKeys), "operation": names(operationKeys),
		"parameter": names(parameterKeys), "rows": names(rowsKeys), "database": names(databaseKeys), "again": names(againKeys), "states": names(statesKeys),
		"listen": names(listenKeys), "limits": names(limitKeys()), "oauth2": names(oauth2Keys), "always": names(alwaysKeys),
	}
}

func names[T any](keys []key[T]) []string {
	return namesOf(keys, func(k key[T]) string { return k.name })
}

// LoginKeys are the keys of each kind of login.
func LoginKeys() map[string][]string {
	return map[string][]string{
		"basic": names(basicKeys), "bearer": names(bearerKeys), "key": names(keyKeys), "digest": names(digestKeys), "ntlm": names(ntlmKeys), "kerberos": names(kerberosKeys),
		"certificate": names(materialKeys), "oauth2": names(oauth2Keys), "desk": names(deskKeys), "session": names(sessionKeys), "hmac": names(hmacKeys),
		"http signature": names(httpSignatureKeys), "username token": names(usernameTokenKeys), "signature": names(signatureKeys), "saml": names(samlKeys),
	}
}

// LoginKinds are the kinds of logins.
func LoginKinds() []string { return loginKindNames() }
