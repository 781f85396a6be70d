<?php
// A SOAP service of another hand: PHP's own SoapServer, version by path.
class Hive
{
    private string $keeper = "nobody";

    public function Keeper($keeper)
    {
        $this->keeper = $keeper;
    }

    public function Weigh($in)
    {
        $frames = is_array($in->frames) ? $in->frames : [$in->frames];
        if ($in->hive === "H-0") {
            throw new SoapFault("Client", "hive H-0 is empty", "urn:heatherfold:hive", ["hive" => "H-0"], "HiveFault");
        }
        return ["hive" => $in->hive, "kilos" => number_format(array_sum($frames) * 2.45, 2, ".", ""), "keeper" => $this->keeper];
    }
}
class Crates
{
    // rpc/encoded: an array of structs in, a struct and an array of numbers out.
    public function Stack($crates, $limit)
    {
        usort($crates, fn($a, $b) => $b->jars <=> $a->jars);
        if ($crates[0]->jars > $limit) {
            throw new SoapFault("Client", "the crate {$crates[0]->label} is over {$limit}");
        }
        // One and the same object twice: it goes out as a reference.
        return ["tallest" => $crates[0], "counts" => array_map(fn($c) => $c->jars, $crates)];
    }

    // rpc/literal.
    public function Count($crate, $factor)
    {
        return $crate->jars * $factor;
    }
}
ini_set("soap.wsdl_cache_enabled", "0");
if (str_contains($_SERVER["REQUEST_URI"], "/crates")) {
    $server = new SoapServer(__DIR__ . "/crates.wsdl", ["soap_version" => str_ends_with($_SERVER["REQUEST_URI"], "12") ? SOAP_1_2 : SOAP_1_1]);
    $server->setClass("Crates");
    $server->handle();
    exit;
}
$version = str_ends_with($_SERVER["REQUEST_URI"], "/12") ? SOAP_1_2 : SOAP_1_1;
$server = new SoapServer(__DIR__ . "/hive.wsdl", ["soap_version" => $version, "send_errors" => true]);
$server->setClass("Hive");
$server->handle();
