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
ini_set("soap.wsdl_cache_enabled", "0");
$version = str_ends_with($_SERVER["REQUEST_URI"], "/12") ? SOAP_1_2 : SOAP_1_1;
$server = new SoapServer(__DIR__ . "/hive.wsdl", ["soap_version" => $version, "send_errors" => true]);
$server->setClass("Hive");
$server->handle();
