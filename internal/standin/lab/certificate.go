package lab

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"net/http"
	"strconv"

	"testbench/internal/document"
	"testbench/internal/soap"
)

// unpacked takes a multipart request apart and puts its root in place of the body.
func unpacked(r *http.Request,
	body *[]byte,
) (root soap.Attachment, attachments []soap.Attachment, packed bool, err error) {
	root, attachments, packed, err = soap.Unpack(r.Header.Get("Content-Type"), *body)
	if packed && err == nil {
		*body = root.Content
	}
	return root, attachments, packed, err
}

// fileCertificate takes a certificate, inline or attached, and says what came.
func fileCertificate(payload *document.Node, attachments []soap.Attachment) (*document.Node, *Fault) {
	content, err := base64.StdEncoding.DecodeString(payload.Child("certificate").OwnText())
	if err != nil {
		return nil, &Fault{
			Sender: true, Text: "the certificate is not Base64", field: "certificate",
			problem: err.Error(),
		}
	}
	if len(content) == 0 && len(attachments) > 0 {
		content = attachments[0].Content // it just travelled along
	}
	if len(content) == 0 {
		return nil, &Fault{
			Sender: true, Text: "the certificate is empty", field: "certificate",
			problem: "nothing came",
		}
	}
	sum := sha256.Sum256(content)
	return element("FileCertificateResponse", element("size", strconv.Itoa(len(content))),
		element("sha256", hex.EncodeToString(sum[:])),
		element("stamp", base64.StdEncoding.EncodeToString([]byte("seen by the Heatherfold lab\n")))), nil
}

// writePackage answers with attachments who asked with some: the stamp travels beside.
func writePackage(w http.ResponseWriter, version soap.Version, blocks []*document.Node, answer *document.Node) {
	var attachments []soap.Attachment
	if stamp := answer.Child("stamp"); stamp != nil {
		content, _ := base64.StdEncoding.DecodeString(stamp.OwnText())
		attachments = append(attachments,
			soap.Attachment{ID: soap.AttachmentID(1), Name: "stamp.txt", Type: "text/plain", Content: content})
		include := soap.Include(soap.AttachmentID(1))
		document.Declare(include)
		stamp.SetItems([]*document.Node{include})
	}
	envelope := soap.Envelope(version, blocks, []*document.Node{answer})
	envelope.AppendAttributes(document.Attribute{
		Name:  document.Name{Prefix: "xmlns", Local: "lab"},
		Value: labNamespace,
	})
	contentType, body, err := soap.Package(version, "", []byte(document.WriteXML(envelope, document.Style{})),
		attachments, true)
	if err != nil {
		w.WriteHeader(http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", contentType)
	_, _ = w.Write(body)
}
