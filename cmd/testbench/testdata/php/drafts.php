<?php
// A client of others: it reads a WSDL, turns our draft of each operation into objects, sends them as it writes them by
// the schema, and reads the answer. A line for each operation: its name and ok, or what went wrong.
[, $wsdl, $address, $drafts] = $argv;
ini_set("soap.wsdl_cache_enabled", "0");
$client = new SoapClient($wsdl, ["exceptions" => true, "location" => $address, "cache_wsdl" => WSDL_CACHE_NONE,
    "features" => SOAP_SINGLE_ELEMENT_ARRAYS]);

// The members of an element, attributes too; a text where it has none.
function members(DOMElement $e) {
    $out = [];
    foreach ($e->attributes as $a) {
        $out[$a->localName][] = $a->value;
    }
    foreach ($e->childNodes as $child) {
        if ($child instanceof DOMElement) {
            $out[$child->localName][] = members($child);
        }
    }
    if ($out === []) {
        return $e->textContent;
    }
    if (trim($e->textContent) !== "" && $e->getElementsByTagName("*")->length === 0) {
        $out["_"] = [$e->textContent];
    }
    return array_map(fn ($values) => count($values) === 1 ? $values[0] : $values, $out);
}

$seen = [];
foreach ($client->__getFunctions() as $signature) {
    preg_match('/(\w+)\(/', $signature, $found);
    $name = $found[1];
    if (isset($seen[$name])) {
        continue;
    }
    $seen[$name] = true;
    try {
        $draft = new DOMDocument();
        $draft->load("$drafts/$name.xml");
        $body = $draft->getElementsByTagNameNS("http://schemas.xmlsoap.org/soap/envelope/", "Body")[0];
        $payload = null;
        foreach ($body->childNodes as $child) {
            if ($child instanceof DOMElement) {
                $payload = $child;
            }
        }
        $given = $payload === null ? [] : members($payload);
        $client->__soapCall($name, $payload === null ? [] : (str_contains($signature, ", ") ? array_values($given) : [$given]));
        echo "$name ok\n";
    } catch (Throwable $problem) {
        echo "$name PROBLEM ", preg_replace('/\s+/', " ", $problem->getMessage()), "\n";
    }
}
