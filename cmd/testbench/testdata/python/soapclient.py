"""A client of others: it reads a WSDL, reads our draft of each operation by its schema, sends what it read as it
writes it, and reads the answer by the schema. A line for each operation: its name and ok, or what went wrong."""
import sys
import zeep
from lxml import etree

wsdl, address, drafts = sys.argv[1:4]
client = zeep.Client(wsdl)
done = set()
for service in client.wsdl.services.values():
    for port in service.ports.values():
        proxy = None
        for name, op in port.binding._operations.items():
            if name in done:
                continue
            done.add(name)
            try:
                if proxy is None:
                    proxy = client.create_service(str(port.binding.name), address)
                draft = etree.parse("%s/%s.xml" % (drafts, name), etree.XMLParser(remove_comments=True, remove_blank_text=True)).getroot()
                body = draft.find("{*}Body")
                payload = [child for child in body if isinstance(child.tag, str)]
                element = op.input.body
                if element is None:
                    value = {}
                else:
                    read = element.parse(payload[0], client.wsdl.types)
                    value = {key: read[key] for key in read} if hasattr(read, "__values__") else None
                if value is None:
                    proxy[name](read) if read is not None else proxy[name]()
                else:
                    proxy[name](**value)
                print(name, "ok")
            except zeep.exceptions.Fault as fault:
                print(name, "FAULT", fault.message)
            except Exception as problem:
                print(name, "PROBLEM", type(problem).__name__, " ".join(str(problem).split()))
