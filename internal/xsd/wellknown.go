package xsd

// wellKnown are declarations of namespaces that schemas import without a
// location, or with one that need not be reached. They are written here from
// what the standards say of them; nothing is fetched.
var wellKnown = map[string]string{
	"http://www.w3.org/XML/1998/namespace": `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" targetNamespace="http://www.w3.org/XML/1998/namespace">
  <xs:attribute name="lang"><xs:simpleType><xs:union memberTypes="xs:language"><xs:simpleType><xs:restriction base="xs:string"><xs:enumeration value=""/></xs:restriction></xs:simpleType></xs:union></xs:simpleType></xs:attribute>
  <xs:attribute name="space"><xs:simpleType><xs:restriction base="xs:NCName"><xs:enumeration value="default"/><xs:enumeration value="preserve"/></xs:restriction></xs:simpleType></xs:attribute>
  <xs:attribute name="base" type="xs:anyURI"/>
  <xs:attribute name="id" type="xs:ID"/>
  <xs:attributeGroup name="specialAttrs"><xs:attribute ref="xml:base"/><xs:attribute ref="xml:lang"/><xs:attribute ref="xml:space"/><xs:attribute ref="xml:id"/></xs:attributeGroup>
</xs:schema>`,
	"http://schemas.xmlsoap.org/soap/envelope/": `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:e="http://schemas.xmlsoap.org/soap/envelope/" targetNamespace="http://schemas.xmlsoap.org/soap/envelope/">
  <xs:attribute name="mustUnderstand"><xs:simpleType><xs:restriction base="xs:boolean"><xs:pattern value="0|1"/></xs:restriction></xs:simpleType></xs:attribute>
  <xs:attribute name="actor" type="xs:anyURI"/>
  <xs:simpleType name="encodingStyle"><xs:list itemType="xs:anyURI"/></xs:simpleType>
  <xs:attribute name="encodingStyle" type="e:encodingStyle"/>
  <xs:attributeGroup name="encodingStyle"><xs:attribute ref="e:encodingStyle"/></xs:attributeGroup>
  <xs:complexType name="Fault" final="extension"><xs:sequence><xs:element name="faultcode" type="xs:QName"/><xs:element name="faultstring" type="xs:string"/><xs:element name="faultactor" type="xs:anyURI" minOccurs="0"/><xs:element name="detail" type="e:detail" minOccurs="0"/></xs:sequence></xs:complexType>
  <xs:complexType name="detail"><xs:sequence><xs:any minOccurs="0" maxOccurs="unbounded" processContents="lax"/></xs:sequence><xs:anyAttribute processContents="lax"/></xs:complexType>
  <xs:element name="Fault" type="e:Fault"/>
</xs:schema>`,
	"http://schemas.xmlsoap.org/soap/encoding/": soapEncoding("http://schemas.xmlsoap.org/soap/encoding/", `
  <xs:simpleType name="arrayCoordinate"><xs:restriction base="xs:string"/></xs:simpleType>
  <xs:attribute name="arrayType" type="xs:string"/>
  <xs:attribute name="offset" type="e:arrayCoordinate"/>
  <xs:attribute name="position" type="e:arrayCoordinate"/>
  <xs:attribute name="root" type="xs:boolean"/>
  <xs:attributeGroup name="arrayAttributes"><xs:attribute ref="e:arrayType"/><xs:attribute ref="e:offset"/></xs:attributeGroup>
  <xs:attributeGroup name="arrayMemberAttributes"><xs:attribute ref="e:position"/></xs:attributeGroup>
  <xs:attributeGroup name="commonAttributes"><xs:attribute name="id" type="xs:ID"/><xs:attribute name="href" type="xs:anyURI"/><xs:anyAttribute namespace="##other" processContents="lax"/></xs:attributeGroup>`),
	"http://www.w3.org/2003/05/soap-encoding": soapEncoding("http://www.w3.org/2003/05/soap-encoding", `
  <xs:attribute name="itemType" type="xs:QName"/>
  <xs:attribute name="arraySize" type="xs:string"/>
  <xs:attribute name="id" type="xs:ID"/>
  <xs:attribute name="ref" type="xs:IDREF"/>
  <xs:attribute name="nodeType" type="xs:string"/>
  <xs:attributeGroup name="arrayAttributes"><xs:attribute ref="e:itemType"/><xs:attribute ref="e:arraySize"/></xs:attributeGroup>
  <xs:attributeGroup name="arrayMemberAttributes"/>
  <xs:attributeGroup name="commonAttributes"><xs:attribute ref="e:id"/><xs:attribute ref="e:ref"/><xs:anyAttribute namespace="##other" processContents="lax"/></xs:attributeGroup>`),
	"http://www.w3.org/1999/xlink": `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" targetNamespace="http://www.w3.org/1999/xlink">
  <xs:attribute name="type" type="xs:token"/><xs:attribute name="href" type="xs:anyURI"/><xs:attribute name="role" type="xs:anyURI"/>
  <xs:attribute name="arcrole" type="xs:anyURI"/><xs:attribute name="title" type="xs:string"/><xs:attribute name="label" type="xs:NCName"/>
  <xs:attribute name="from" type="xs:NCName"/><xs:attribute name="to" type="xs:NCName"/>
  <xs:attribute name="show"><xs:simpleType><xs:restriction base="xs:token"><xs:enumeration value="new"/><xs:enumeration value="replace"/><xs:enumeration value="embed"/><xs:enumeration value="other"/><xs:enumeration value="none"/></xs:restriction></xs:simpleType></xs:attribute>
  <xs:attribute name="actuate"><xs:simpleType><xs:restriction base="xs:token"><xs:enumeration value="onLoad"/><xs:enumeration value="onRequest"/><xs:enumeration value="other"/><xs:enumeration value="none"/></xs:restriction></xs:simpleType></xs:attribute>
</xs:schema>`,
	"http://www.w3.org/2005/05/xmlmime": `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:m="http://www.w3.org/2005/05/xmlmime" targetNamespace="http://www.w3.org/2005/05/xmlmime">
  <xs:attribute name="contentType"><xs:simpleType><xs:restriction base="xs:string"><xs:minLength value="3"/></xs:restriction></xs:simpleType></xs:attribute>
  <xs:attribute name="expectedContentTypes" type="xs:string"/>
  <xs:complexType name="base64Binary"><xs:simpleContent><xs:extension base="xs:base64Binary"><xs:attribute ref="m:contentType"/></xs:extension></xs:simpleContent></xs:complexType>
  <xs:complexType name="hexBinary"><xs:simpleContent><xs:extension base="xs:hexBinary"><xs:attribute ref="m:contentType"/></xs:extension></xs:simpleContent></xs:complexType>
</xs:schema>`,
	"http://www.w3.org/2004/08/xop/include": `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:x="http://www.w3.org/2004/08/xop/include" targetNamespace="http://www.w3.org/2004/08/xop/include">
  <xs:element name="Include" type="x:Include"/>
  <xs:complexType name="Include"><xs:sequence><xs:any namespace="##other" minOccurs="0" maxOccurs="unbounded" processContents="lax"/></xs:sequence><xs:attribute name="href" type="xs:anyURI" use="required"/><xs:anyAttribute namespace="##other" processContents="lax"/></xs:complexType>
</xs:schema>`,
	"http://www.w3.org/2005/08/addressing": `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:a="http://www.w3.org/2005/08/addressing" targetNamespace="http://www.w3.org/2005/08/addressing" elementFormDefault="qualified">
  <xs:complexType name="EndpointReferenceType"><xs:sequence><xs:element name="Address" type="a:AttributedURIType"/><xs:element ref="a:ReferenceParameters" minOccurs="0"/><xs:element ref="a:Metadata" minOccurs="0"/><xs:any namespace="##other" processContents="lax" minOccurs="0" maxOccurs="unbounded"/></xs:sequence><xs:anyAttribute namespace="##other" processContents="lax"/></xs:complexType>
  <xs:complexType name="AttributedURIType"><xs:simpleContent><xs:extension base="xs:anyURI"><xs:anyAttribute namespace="##other" processContents="lax"/></xs:extension></xs:simpleContent></xs:complexType>
  <xs:complexType name="OpenType"><xs:sequence><xs:any minOccurs="0" maxOccurs="unbounded" processContents="lax"/></xs:sequence><xs:anyAttribute namespace="##other" processContents="lax"/></xs:complexType>
  <xs:complexType name="RelatesToType"><xs:simpleContent><xs:extension base="xs:anyURI"><xs:attribute name="RelationshipType" type="xs:anyURI"/><xs:anyAttribute namespace="##other" processContents="lax"/></xs:extension></xs:simpleContent></xs:complexType>
  <xs:complexType name="ProblemActionType"><xs:sequence><xs:element ref="a:Action" minOccurs="0"/><xs:element name="SoapAction" type="xs:anyURI" minOccurs="0"/></xs:sequence><xs:anyAttribute namespace="##other" processContents="lax"/></xs:complexType>
  <xs:complexType name="AttributedQNameType"><xs:simpleContent><xs:extension base="xs:QName"><xs:anyAttribute namespace="##other" processContents="lax"/></xs:extension></xs:simpleContent></xs:complexType>
  <xs:complexType name="AttributedUnsignedLongType"><xs:simpleContent><xs:extension base="xs:unsignedLong"><xs:anyAttribute namespace="##other" processContents="lax"/></xs:extension></xs:simpleContent></xs:complexType>
  <xs:element name="EndpointReference" type="a:EndpointReferenceType"/><xs:element name="ReferenceParameters" type="a:OpenType"/><xs:element name="Metadata" type="a:OpenType"/>
  <xs:element name="MessageID" type="a:AttributedURIType"/><xs:element name="RelatesTo" type="a:RelatesToType"/><xs:element name="ReplyTo" type="a:EndpointReferenceType"/><xs:element name="From" type="a:EndpointReferenceType"/>
  <xs:element name="FaultTo" type="a:EndpointReferenceType"/><xs:element name="To" type="a:AttributedURIType"/><xs:element name="Action" type="a:AttributedURIType"/><xs:element name="RetryAfter" type="a:AttributedUnsignedLongType"/>
  <xs:element name="ProblemHeaderQName" type="a:AttributedQNameType"/><xs:element name="ProblemIRI" type="a:AttributedURIType"/><xs:element name="ProblemAction" type="a:ProblemActionType"/>
  <xs:attribute name="IsReferenceParameter" type="xs:boolean"/>
</xs:schema>`,
	"http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd": `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:u="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd" targetNamespace="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd" elementFormDefault="qualified">
  <xs:attribute name="Id" type="xs:ID"/>
  <xs:attributeGroup name="commonAtts"><xs:attribute ref="u:Id"/><xs:anyAttribute namespace="##other" processContents="lax"/></xs:attributeGroup>
  <xs:complexType name="AttributedDateTime"><xs:simpleContent><xs:extension base="xs:string"><xs:attributeGroup ref="u:commonAtts"/></xs:extension></xs:simpleContent></xs:complexType>
  <xs:complexType name="AttributedURI"><xs:simpleContent><xs:extension base="xs:anyURI"><xs:attributeGroup ref="u:commonAtts"/></xs:extension></xs:simpleContent></xs:complexType>
  <xs:complexType name="TimestampType"><xs:sequence><xs:element ref="u:Created" minOccurs="0"/><xs:element ref="u:Expires" minOccurs="0"/><xs:any namespace="##other" processContents="lax" minOccurs="0" maxOccurs="unbounded"/></xs:sequence><xs:attributeGroup ref="u:commonAtts"/></xs:complexType>
  <xs:element name="Timestamp" type="u:TimestampType"/><xs:element name="Created" type="u:AttributedDateTime"/><xs:element name="Expires" type="u:AttributedDateTime"/>
</xs:schema>`,
	"http://www.w3.org/2000/09/xmldsig#": `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:d="http://www.w3.org/2000/09/xmldsig#" targetNamespace="http://www.w3.org/2000/09/xmldsig#" elementFormDefault="qualified">
  <xs:simpleType name="CryptoBinary"><xs:restriction base="xs:base64Binary"/></xs:simpleType>
  <xs:complexType name="OpenType" mixed="true"><xs:sequence><xs:any processContents="lax" minOccurs="0" maxOccurs="unbounded"/></xs:sequence><xs:attribute name="Id" type="xs:ID"/><xs:anyAttribute processContents="lax"/></xs:complexType>
  <xs:complexType name="SignatureType"><xs:sequence><xs:element ref="d:SignedInfo"/><xs:element ref="d:SignatureValue"/><xs:element ref="d:KeyInfo" minOccurs="0"/><xs:element ref="d:Object" minOccurs="0" maxOccurs="unbounded"/></xs:sequence><xs:attribute name="Id" type="xs:ID"/></xs:complexType>
  <xs:complexType name="SignatureValueType"><xs:simpleContent><xs:extension base="xs:base64Binary"><xs:attribute name="Id" type="xs:ID"/></xs:extension></xs:simpleContent></xs:complexType>
  <xs:complexType name="SignedInfoType"><xs:sequence><xs:element ref="d:CanonicalizationMethod"/><xs:element ref="d:SignatureMethod"/><xs:element ref="d:Reference" maxOccurs="unbounded"/></xs:sequence><xs:attribute name="Id" type="xs:ID"/></xs:complexType>
  <xs:complexType name="MethodType" mixed="true"><xs:sequence><xs:any processContents="lax" minOccurs="0" maxOccurs="unbounded"/></xs:sequence><xs:attribute name="Algorithm" type="xs:anyURI" use="required"/></xs:complexType>
  <xs:complexType name="ReferenceType"><xs:sequence><xs:element ref="d:Transforms" minOccurs="0"/><xs:element ref="d:DigestMethod"/><xs:element ref="d:DigestValue"/></xs:sequence><xs:attribute name="Id" type="xs:ID"/><xs:attribute name="URI" type="xs:anyURI"/><xs:attribute name="Type" type="xs:anyURI"/></xs:complexType>
  <xs:complexType name="TransformsType"><xs:sequence><xs:element ref="d:Transform" maxOccurs="unbounded"/></xs:sequence></xs:complexType>
  <xs:simpleType name="DigestValueType"><xs:restriction base="xs:base64Binary"/></xs:simpleType>
  <xs:element name="Signature" type="d:SignatureType"/><xs:element name="SignatureValue" type="d:SignatureValueType"/><xs:element name="SignedInfo" type="d:SignedInfoType"/><xs:element name="CanonicalizationMethod" type="d:MethodType"/>
  <xs:element name="SignatureMethod" type="d:MethodType"/><xs:element name="Reference" type="d:ReferenceType"/><xs:element name="Transforms" type="d:TransformsType"/><xs:element name="Transform" type="d:MethodType"/><xs:element name="DigestMethod" type="d:MethodType"/>
  <xs:element name="DigestValue" type="d:DigestValueType"/><xs:element name="KeyInfo" type="d:OpenType"/><xs:element name="KeyName" type="xs:string"/><xs:element name="Object" type="d:OpenType"/>
</xs:schema>`,
}

// soapEncoding writes what both versions of the SOAP encoding have alike: an
// element and a type for each simple type, and arrays (SOAP 1.1, section 5).
func soapEncoding(namespace, own string) string {
	text := `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:e="` + namespace + `" targetNamespace="` + namespace + `">` + own + `
  <xs:complexType name="Array"><xs:sequence><xs:any minOccurs="0" maxOccurs="unbounded" processContents="lax"/></xs:sequence><xs:attributeGroup ref="e:arrayAttributes"/><xs:attributeGroup ref="e:commonAttributes"/></xs:complexType>
  <xs:element name="Array" type="e:Array"/>
  <xs:complexType name="Struct"><xs:sequence><xs:any minOccurs="0" maxOccurs="unbounded" processContents="lax"/></xs:sequence><xs:attributeGroup ref="e:commonAttributes"/></xs:complexType>
  <xs:element name="Struct" type="e:Struct"/>
  <xs:simpleType name="base64"><xs:restriction base="xs:base64Binary"/></xs:simpleType>
`
	for _, local := range []string{
		"string", "boolean", "float", "double", "decimal", "duration", "dateTime", "time", "date", "gYearMonth",
		"gYear", "gMonthDay", "gDay", "gMonth",
		"hexBinary", "base64Binary", "anyURI", "QName", "normalizedString", "token", "language", "Name", "NMTOKEN",
		"NCName", "integer", "nonPositiveInteger",
		"negativeInteger", "long", "int", "short", "byte", "nonNegativeInteger", "unsignedLong", "unsignedInt",
		"unsignedShort", "unsignedByte", "positiveInteger",
	} {
		text += `<xs:complexType name="` + local + `"><xs:simpleContent><xs:extension base="xs:` + local + `"><xs:attributeGroup ref="e:commonAttributes"/></xs:extension></xs:simpleContent></xs:complexType><xs:element name="` + local + `" type="e:` + local + `" nillable="true"/>
`
	}
	return text + `</xs:schema>`
}
