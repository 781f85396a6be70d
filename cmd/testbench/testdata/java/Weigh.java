import com.sun.net.httpserver.HttpServer;
import java.math.BigDecimal;
import java.net.InetAddress;
import java.net.InetSocketAddress;
import java.util.ArrayList;
import java.util.List;
import javax.jws.Oneway;
import javax.jws.WebMethod;
import javax.jws.WebParam;
import javax.jws.WebResult;
import javax.jws.WebService;
import javax.jws.soap.SOAPBinding;
import javax.xml.bind.annotation.XmlAttribute;
import javax.xml.datatype.XMLGregorianCalendar;
import javax.xml.ws.Action;
import javax.xml.ws.BindingType;
import javax.xml.ws.Endpoint;
import javax.xml.ws.FaultAction;
import javax.xml.ws.WebFault;
import javax.xml.ws.soap.Addressing;
import javax.xml.ws.soap.MTOM;

/** A scale by JAX-WS: in SOAP 1.1 and 1.2, with and without addressing, by document and by rpc. java Weigh DIR */
public class Weigh {
	public static class Lot {
		public String name;
		public BigDecimal kilos;
		public XMLGregorianCalendar at;
		@XmlAttribute(required = true) public String depot;
		public List<String> marks = new ArrayList<>();
	}

	public static class Heavy { public BigDecimal most; }

	@WebFault(name = "tooHeavy", targetNamespace = "urn:waage")
	public static class TooHeavy extends Exception {
		private final Heavy heavy;
		public TooHeavy(String text, Heavy heavy) { super(text); this.heavy = heavy; }
		public Heavy getFaultInfo() { return heavy; }
	}

	public static class Loads { public List<BigDecimal> kilos = new ArrayList<>(); }

	// Bare: what Debian has of JAX-WS lacks what makes the wrappers of the other style.
	@SOAPBinding(parameterStyle = SOAPBinding.ParameterStyle.BARE)
	public static class Scale {
		@WebMethod @WebResult(name = "weighed", targetNamespace = "urn:waage")
		@Action(input = "urn:waage:weigh", output = "urn:waage:weighed", fault = @FaultAction(className = TooHeavy.class, value = "urn:waage:heavy"))
		public Lot weigh(@WebParam(name = "weigh", targetNamespace = "urn:waage") Lot lot) throws TooHeavy {
			lot.kilos = lot.kilos.multiply(new BigDecimal(lot.marks.size() + 1));
			if (lot.kilos.compareTo(new BigDecimal(1000)) > 0) {
				Heavy heavy = new Heavy();
				heavy.most = new BigDecimal(1000);
				throw new TooHeavy("zu schwer: " + lot.name, heavy);
			}
			return lot;
		}
		@WebMethod @WebResult(name = "sum", targetNamespace = "urn:waage")
		public BigDecimal total(@WebParam(name = "total", targetNamespace = "urn:waage") Loads loads) {
			return loads.kilos.stream().reduce(BigDecimal.ZERO, BigDecimal::add);
		}
		@WebMethod @Oneway
		public void note(@WebParam(name = "note", targetNamespace = "urn:waage") String text) {
		}
	}

	@WebService(serviceName = "Scale", targetNamespace = "urn:waage")
	@SOAPBinding(parameterStyle = SOAPBinding.ParameterStyle.BARE)
	public static class Plain extends Scale { }

	@WebService(serviceName = "Scale", targetNamespace = "urn:waage") @Addressing(required = true)
	@SOAPBinding(parameterStyle = SOAPBinding.ParameterStyle.BARE)
	public static class Addressed extends Scale { }

	@WebService(serviceName = "Scale", targetNamespace = "urn:waage") @Addressing(required = true)
	@BindingType(javax.xml.ws.soap.SOAPBinding.SOAP12HTTP_BINDING)
	@SOAPBinding(parameterStyle = SOAPBinding.ParameterStyle.BARE)
	public static class Twelve extends Scale { }

	@WebService(serviceName = "Scale", targetNamespace = "urn:waage") @SOAPBinding(style = SOAPBinding.Style.RPC)
	public static class Rpc {
		@WebMethod @WebResult(name = "sum")
		public int add(@WebParam(name = "a") int a, @WebParam(name = "b") int b) { return a + b; }
	}

	@WebService(serviceName = "Scale", targetNamespace = "urn:waage") @MTOM
	@SOAPBinding(parameterStyle = SOAPBinding.ParameterStyle.BARE)
	public static class Attached {
		@WebMethod @WebResult(name = "turned", targetNamespace = "urn:waage")
		public byte[] turn(@WebParam(name = "turn", targetNamespace = "urn:waage") byte[] image) {
			byte[] out = new byte[image.length];
			for (int i = 0; i < image.length; i++) out[i] = image[image.length - 1 - i];
			return out;
		}
	}

	public static void main(String[] args) throws Exception {
		java.util.logging.LogManager.getLogManager().reset(); // it says much of what Debian left out of it
		HttpServer server = HttpServer.create(new InetSocketAddress(InetAddress.getByName("127.0.0.1"), 0), 0);
		Endpoint.create(new Plain()).publish(server.createContext("/plain"));
		Endpoint.create(new Addressed()).publish(server.createContext("/addressed"));
		Endpoint.create(new Twelve()).publish(server.createContext("/twelve"));
		Endpoint.create(new Rpc()).publish(server.createContext("/rpc"));
		Endpoint.create(new Attached()).publish(server.createContext("/attached"));
		server.start();
		System.out.println(server.getAddress().getPort());
		while (System.in.read() >= 0) { }
		System.exit(0);
	}
}
