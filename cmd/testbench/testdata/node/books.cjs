// Suppliers and their orders by OData 4, by a server that is not ours, over a database in memory.
// node books.cjs PORT PEERS
const { createRequire } = require('node:module');
const [port, peers] = process.argv.slice(2);
const from = createRequire(peers + '/package.json');
const { createTypedODataServer, ODataModel, ODataColumn, ODataNavigation, BaseODataModel, Edm, odata, BigNumber } = from('@odata/server');

// has gives a class's property its type and its decorator, as a compiler of decorators would.
const has = (of, name, type, decorator) => {
  Reflect.defineMetadata('design:type', type, of.prototype, name);
  decorator(of.prototype, name);
};

class Supplier extends BaseODataModel {
  async grade() {
    return `A grade for ${this.name}`;
  }
}
class Order extends BaseODataModel {}

has(Supplier, 'number', Number, ODataColumn({ primary: true, generated: 'increment', type: 'integer' }));
has(Supplier, 'name', String, ODataColumn({ length: 40, type: 'varchar' }));
has(Supplier, 'limit', BigNumber, ODataColumn({ nullable: true, type: 'decimal', precision: 9, scale: 2 }));
has(Supplier, 'since', Date, ODataColumn({ nullable: true }));
has(Supplier, 'active', Boolean, ODataColumn({ nullable: true }));
has(Supplier, 'orders', Array, ODataNavigation({ type: 'OneToMany', entity: () => Order, targetForeignKey: 'supplierNumber' }));
ODataModel({}, 'Suppliers')(Supplier);

has(Order, 'number', Number, ODataColumn({ primary: true, generated: 'increment', type: 'integer' }));
has(Order, 'supplierNumber', Number, ODataColumn({ nullable: true, type: 'integer' }));
has(Order, 'note', String, ODataColumn({ nullable: true, type: 'varchar' }));
has(Order, 'supplier', Supplier, ODataNavigation({ type: 'ManyToOne', entity: () => Supplier, foreignKey: 'supplierNumber' }));
ODataModel({}, 'Orders')(Order);

createTypedODataServer({ type: 'sqljs', synchronize: true, entities: [Supplier, Order] }, Supplier, Order)
  .then((server) => server.create(Number(port), '127.0.0.1'))
  .catch((wrong) => { console.error(wrong); process.exit(1); });
