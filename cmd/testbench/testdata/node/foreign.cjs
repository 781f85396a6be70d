// Calls a simulated service by client libraries that others wrote.
const [, , peers, what, address] = process.argv;
const load = name => require(require.resolve(name, { paths: [peers + "/node_modules"] }));

async function main() {
  switch (what) {
    case "soap": {
      const client = await load("soap").createClientAsync(address + "/?wsdl");
      for (const [operation, fields] of [["GradeLot", { lot: "L-2201", moisture: 17 }], ["ConvertIndex", { refractiveIndex: 1.494 }]]) {
        const [answer] = await client[operation + "Async"](fields);
        console.log(operation, JSON.stringify(answer));
      }
      await client.GradeLotAsync({ lot: "wrong", moisture: 17 }).then(() => console.log("taken"), problem => console.log("refused", problem.message));
      break;
    }
    case "openapi": {
      const { default: Client } = load("openapi-client-axios");
      const definition = load("js-yaml").load(await (await fetch(address + "/openapi.yaml")).text());
      const client = await new Client({ definition, withServer: { url: address + "/stores" } }).init();
      const headers = { headers: { "X-Depot": "north" } };
      console.log("search", JSON.stringify((await client.search({ grade: "A" }, null, headers)).data));
      console.log("lot", JSON.stringify((await client.lot({ id: "L-2201" }, null, headers)).data));
      console.log("move", JSON.stringify((await client.move(null, { lot: "L-2201", to: "south" }, headers)).data));
      await client.lot({ id: "wrong" }, null, headers).then(() => console.log("taken"), problem => console.log("refused", problem.response.status));
      break;
    }
    case "odata": case "odata2": {
      const { OData } = load("@odata/client");
      const four = what === "odata";
      const client = OData[four ? "New4" : "New"]({ serviceEndpoint: address + "/", processCsrfToken: false });
      const day = text => four ? text : text + "T00:00:00";
      const decimal = number => four ? number : String(number);
      const made = {
        Suppliers: { name: "Moor & Söhne", city: "Heatherfold", since: day("2026-05-04") },
        PurchaseOrders: { supplierNumber: "S-1", orderedOn: day("2026-05-04"), currency: "EUR" },
        Intakes: { lot: "L-2201", grade: "A", kilos: decimal(12.5), moisture: decimal(17) },
        "PurchaseOrders('P-1')/lines": { article: "jar", quantity: 3, price: decimal(4.5) },
      };
      const shown = async (name, answer) => {
        try {
          const said = await answer();
          console.log(name, said === undefined ? "done" : JSON.stringify(said?.error ? { FAULT: said.error } : said));
          return said;
        } catch (problem) {
          console.log(name, "FAULT", problem.message);
        }
      };
      if (!four) delete made.Intakes; // version 2 has none
      for (const [name, fields] of Object.entries(made)) {
        const set = client.getEntitySet(name);
        await shown(name + ".list", () => set.query());
        const entity = await shown(name + ".create", () => set.create(fields));
        const key = entity?.number ?? entity?.position;
        await shown(name + ".read", () => set.retrieve(key));
        await shown(name + ".change", () => set.update(key, fields.name ? { city: "Moor" } : fields.lot ? { grade: "B" } : fields.article ? { quantity: 4 } : { currency: "USD" }));
        await shown(name + ".replace", () => client.newRequest({ collection: name, id: key, method: "PUT", entity: fields }));
        await shown(name + ".count", () => set.count());
        await shown(name + ".remove", () => set.delete(key));
      }
      await shown("Suppliers.orders.list", () => client.newRequest({ collection: "Suppliers('S-1')/orders", method: "GET" }));
      await shown("Suppliers.orders.create", () => client.getEntitySet("Suppliers('S-1')/orders").create(made.PurchaseOrders));
      await shown("Suppliers.orders.count", () => client.getEntitySet("Suppliers('S-1')/orders").count());
      await shown("PurchaseOrders.supplier.read", () => client.newRequest({ collection: "PurchaseOrders('P-1')/supplier", method: "GET" }));
      if (four) {
        await shown("PurchaseOrders.Post", () => client.getEntitySet("PurchaseOrders").action("Heatherfold.Ledger.Post", "P-1", { on: "2026-05-04" }));
        await shown("OpenTotal", () => client.functionImport("OpenTotal", { currency: "EUR" }));
      } else {
        await shown("OpenTotal", () => client.functionImport("OpenTotal", { currency: "EUR" }));
        await shown("Post", () => client.newRequest({ collection: "Post?number='P-1'", method: "POST" }));
      }
      await shown("wrong", () => client.getEntitySet("Suppliers").create({ name: 5 }));
      break;
    }
  }
}

main().catch(problem => { console.error(problem); process.exit(1); });
