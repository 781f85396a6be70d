<?php
// Calls every operation of a simulated SOAP service by PHP's own client.
[, $address, $what] = $argv;
$lab = "urn:heatherfold:lab";
$load = ["plate" => "AB-123", "gross" => 12000, "tare" => 9000];
[$calls, $wrong] = [
    "lab" => [[
        "GradeLot" => [["lot" => "L-2201", "moisture" => 17]],
        "ConvertIndex" => [["refractiveIndex" => "1.4940"]],
        "RegisterAnalysis" => [["urgent" => true, "lot" => "L-2201", "takenOn" => "2026-05-04",
            "sentBy" => new SoapVar(["name" => "Ansel", "hives" => 4], SOAP_ENC_OBJECT, "Keeper", $lab),
            "flowers" => ["heather", "lime"], "value" => [["_" => 17, "of" => "moisture", "unit" => "percent"]],
            "diastase" => 12, "finding" => ["clear"]]],
        "FileCertificate" => [["lot" => "L-2201", "certificate" => "clear honey"]],
    ], ["GradeLot", [["lot" => "wrong", "moisture" => 17]]]],
    "scale" => [[
        "Weigh" => [$load],
        "WeighAll" => [[$load, ["plate" => "CD-456", "gross" => 8000, "tare" => 7000]]],
    ], ["Weigh", [["plate" => "wrong", "gross" => 1, "tare" => 1]]]],
][$what];

$client = new SoapClient($address . "/?wsdl", ["cache_wsdl" => WSDL_CACHE_NONE, "exceptions" => true]);
foreach ($calls as $operation => $arguments) {
    try {
        echo $operation, " ", json_encode($client->__soapCall($operation, $arguments)), "\n";
    } catch (SoapFault $fault) {
        echo $operation, " FAULT ", $fault->getMessage(), "\n";
    }
}
try {
    $client->__soapCall(...$wrong);
    echo "taken\n";
} catch (SoapFault $fault) {
    echo "refused ", $fault->faultcode, "\n";
}
