// A service that no bench knows, described in six ways. Its contracts name an address of their own: another
// host name, another path. GET /seen gives what it was sent since the last time.
const http = require("http");

const [port] = process.argv.slice(2);
const own = `http://localhost:${port}`;
const xsd = "http://www.w3.org/2001/XMLSchema";

const contracts = {
  "/service.svc?wsdl": `<?xml version="1.0"?>
<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:soap="http://schemas.xmlsoap.org/wsdl/soap/" xmlns:t="urn:скеп" targetNamespace="urn:скеп">
<types><s:schema xmlns:s="${xsd}" targetNamespace="urn:скеп" elementFormDefault="qualified">
<s:element name="Weigh"><s:complexType><s:sequence><s:element name="skep" type="s:string"/><s:element name="day" type="s:date" minOccurs="0"/></s:sequence></s:complexType></s:element>
<s:element name="Weighed"><s:complexType><s:sequence><s:element name="grams" type="s:int"/></s:sequence></s:complexType></s:element>
</s:schema></types>
<message name="In"><part name="parameters" element="t:Weigh"/></message><message name="Out"><part name="parameters" element="t:Weighed"/></message>
<portType name="Scales"><operation name="Weigh"><input message="t:In"/><output message="t:Out"/></operation></portType>
<binding name="ScalesSoap" type="t:Scales"><soap:binding transport="http://schemas.xmlsoap.org/soap/http"/>
<operation name="Weigh"><soap:operation soapAction="urn:скеп/weigh"/><input><soap:body use="literal"/></input><output><soap:body use="literal"/></output></operation></binding>
<service name="Scales"><port name="ScalesSoap" binding="t:ScalesSoap"><soap:address location="${own}/service.svc"/></port></service>
</definitions>`,
  "/swagger/v1/doc.json": JSON.stringify({
    swagger: "2.0", info: { title: "Skeps", version: "1" }, host: `localhost:${port}`, basePath: "/v2", schemes: ["http"],
    paths: {
      "/skeps/{skep}/weights": {
        get: {
          operationId: "weights", produces: ["application/json"],
          parameters: [{ name: "skep", in: "path", required: true, type: "string" }, { name: "day", in: "query", type: "string", format: "date" }],
          responses: { 200: { description: "weights", schema: { $ref: "#/definitions/Weights" } } },
        },
      },
    },
    definitions: { Weights: { type: "object", required: ["grams"], properties: { grams: { type: "integer" } } } },
  }),
  "/api-docs": `openapi: 3.0.3
info: {title: Skeps, version: "1"}
servers: [{url: "${own}/v3"}]
paths:
  /weighings:
    post:
      operationId: weigh
      requestBody:
        required: true
        content:
          application/json:
            schema: {type: object, required: [skep], properties: {skep: {type: string}, day: {type: string, format: date}}}
      responses:
        "201":
          description: weighed
          content:
            application/json:
              schema: {type: object, required: [grams], properties: {grams: {type: integer}}}
`,
  "/rest/application.wadl": `<application xmlns="http://wadl.dev.java.net/2009/02" xmlns:x="${xsd}"><resources base="${own}/rest/">
<resource path="weights"><method name="GET" id="weights"><request><param name="skep" style="query" type="x:string" required="true"/><param name="day" style="query" type="x:date"/></request>
<response status="200"><representation mediaType="application/json"/></response></method></resource></resources></application>`,
  "/odata/v2/$metadata": `<edmx:Edmx Version="1.0" xmlns:edmx="http://schemas.microsoft.com/ado/2007/06/edmx"><edmx:DataServices m:DataServiceVersion="2.0" xmlns:m="http://schemas.microsoft.com/ado/2007/08/dataservices/metadata">
<Schema Namespace="Skeps" xmlns="http://schemas.microsoft.com/ado/2008/09/edm"><EntityType Name="Weight"><Key><PropertyRef Name="Skep"/></Key><Property Name="Skep" Type="Edm.String" Nullable="false"/><Property Name="Grams" Type="Edm.Int32"/></EntityType>
<EntityContainer Name="C" m:IsDefaultEntityContainer="true"><EntitySet Name="Weights" EntityType="Skeps.Weight"/></EntityContainer></Schema></edmx:DataServices></edmx:Edmx>`,
  "/odata/v4/$metadata": `<edmx:Edmx Version="4.0" xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx"><edmx:DataServices>
<Schema Namespace="Skeps" xmlns="http://docs.oasis-open.org/odata/ns/edm"><EntityType Name="Weight"><Key><PropertyRef Name="Skep"/></Key><Property Name="Skep" Type="Edm.String" Nullable="false"/><Property Name="Grams" Type="Edm.Int32"/></EntityType>
<EntityContainer Name="C"><EntitySet Name="Weights" EntityType="Skeps.Weight"/></EntityContainer></Schema></edmx:DataServices></edmx:Edmx>`,
};

const answers = [
  [/^\/service\.svc/, "text/xml; charset=utf-8", `<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><Weighed xmlns="urn:скеп"><grams>2450</grams></Weighed></e:Body></e:Envelope>`],
  [/^\/v2\/|^\/rest\/weights/, "application/json", `{"grams": 2450}`],
  [/^\/v3\//, "application/json", `{"grams": 2450}`, 201],
  [/^\/odata\/v2\/Weights\(/, "application/json", `{"d": {"Skep": "S 1", "Grams": 2450}}`],
  [/^\/odata\/v4\/Weights\(/, "application/json", `{"@odata.context": "$metadata#Weights/$entity", "Skep": "S 1", "Grams": 2450}`],
];

let seen = [];

http.createServer((request, response) => {
  const parts = [];
  request.on("data", (part) => parts.push(part));
  request.on("end", () => {
    const contract = request.method === "GET" && contracts[request.url];
    if (contract) {
      response.setHeader("Content-Type", contract.startsWith("<") ? "text/xml" : "application/json");
      return response.end(contract);
    }
    if (request.url === "/seen") {
      response.end(JSON.stringify(seen));
      seen = [];
      return;
    }
    seen.push([request.method, request.url, request.headers["content-type"], request.headers.soapaction, Buffer.concat(parts).toString()]);
    for (const [path, type, body, status] of answers) {
      if (path.test(request.url)) {
        response.writeHead(status || 200, { "Content-Type": type });
        return response.end(body);
      }
    }
    response.writeHead(404);
    response.end();
  });
}).listen(Number(port), "127.0.0.1");
