//! JSON-RPC 2.0, one message to a line. Knows no socket.

use serde::Deserialize;
use serde::de::DeserializeOwned;
use serde_json::{Value, json};

/// The version of what is spoken: it grows when a method changes what it takes or gives.
pub const VERSION: u32 = 1;

/// The codes of JSON-RPC 2.0, section 5.1, and one of ours.
pub mod code {
    pub const NO_JSON: i64 = -32700;
    pub const NO_REQUEST: i64 = -32600;
    pub const NO_METHOD: i64 = -32601;
    pub const WRONG_VALUES: i64 = -32602;
    /// What was asked cannot be done now; the message says why.
    pub const REFUSED: i64 = -32000;
}

/// Why a request is not answered with a result.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RpcError {
    pub code: i64,
    pub message: String,
}

impl RpcError {
    /// It cannot be done now.
    pub fn refused(message: impl ToString) -> RpcError {
        RpcError { code: code::REFUSED, message: message.to_string() }
    }
}

/// A request; without an id it gets no answer.
#[derive(Debug, Clone, PartialEq)]
pub struct Request {
    pub id: Option<Value>,
    pub method: String,
    params: Value,
}

impl Request {
    /// What the request gives, as the method takes it.
    pub fn params<T: DeserializeOwned>(&self) -> Result<T, RpcError> {
        let given = if self.params.is_null() { json!({}) } else { self.params.clone() };
        serde_json::from_value(given).map_err(|error| RpcError {
            code: code::WRONG_VALUES,
            message: format!("`{}` does not take that: {error}", self.method),
        })
    }
}

/// Reads a line as a request.
///
/// # Errors
/// When the line is no request; the answer to it has a null `id`.
pub fn read_request(line: &[u8]) -> Result<Request, RpcError> {
    #[derive(Deserialize)]
    struct Raw {
        jsonrpc: String,
        #[serde(default, deserialize_with = "present")]
        id: Option<Value>,
        method: String,
        #[serde(default)]
        params: Value,
    }
    /// An id of null is an id.
    fn present<'de, D: serde::Deserializer<'de>>(from: D) -> Result<Option<Value>, D::Error> {
        Value::deserialize(from).map(Some)
    }
    let broken = |code, message: &str| RpcError { code, message: message.to_owned() };
    let value: Value = serde_json::from_slice(line)
        .map_err(|error| broken(code::NO_JSON, &format!("this line is no JSON: {error}")))?;
    if value.is_array() {
        return Err(broken(
            code::NO_REQUEST,
            "several at once are not taken; send a line for each",
        ));
    }
    let raw: Raw = serde_json::from_value(value)
        .map_err(|error| broken(code::NO_REQUEST, &format!("this is no request: {error}")))?;
    let simple = raw.id.as_ref().is_none_or(|id| !id.is_object() && !id.is_array());
    if raw.jsonrpc != "2.0" || !simple {
        return Err(broken(code::NO_REQUEST, "this is no request of JSON-RPC 2.0"));
    }
    Ok(Request { id: raw.id, method: raw.method, params: raw.params })
}

/// A line that answers.
pub fn reply(id: &Value, result: Result<Value, RpcError>) -> String {
    let message = match result {
        Ok(result) => json!({ "jsonrpc": "2.0", "id": id, "result": result }),
        Err(RpcError { code, message }) => {
            json!({ "jsonrpc": "2.0", "id": id, "error": { "code": code, "message": message } })
        }
    };
    format!("{message}\n")
}

/// A line that asks, or tells if it has no id.
pub fn request(id: Option<u64>, method: &str, params: &Value) -> String {
    let mut message = json!({ "jsonrpc": "2.0", "method": method, "params": params });
    if let (Some(id), Some(fields)) = (id, message.as_object_mut()) {
        fields.insert("id".to_owned(), json!(id));
    }
    format!("{message}\n")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn requests_are_read_with_and_without_an_id() {
        let read =
            read_request(br#"{"jsonrpc":"2.0","id":7,"method":"status"}"#).expect("it is one");
        assert_eq!((read.id, read.method.as_str()), (Some(json!(7)), "status"));
        let read = read_request(br#"{"jsonrpc":"2.0","method":"stop","params":{"name":"feed"}}"#);
        let read = read.expect("it is one");
        assert_eq!(read.id, None);
        #[derive(Deserialize)]
        struct Named {
            name: String,
        }
        assert_eq!(read.params::<Named>().expect("it fits").name, "feed");
        assert!(read.params::<Vec<u8>>().is_err_and(|error| error.code == code::WRONG_VALUES));
        let null = read_request(br#"{"jsonrpc":"2.0","id":null,"method":"status"}"#);
        assert_eq!(null.expect("it is one").id, Some(Value::Null));
    }

    #[test]
    fn what_is_no_request_is_answered_with_what_is_wrong() {
        for (line, code) in [
            (&b"{"[..], code::NO_JSON),
            (b"\xff\xfe", code::NO_JSON),
            (b"7", code::NO_REQUEST),
            (b"[]", code::NO_REQUEST),
            (br#"{"jsonrpc":"1.0","id":1,"method":"x"}"#, code::NO_REQUEST),
            (br#"{"jsonrpc":"2.0","id":{},"method":"x"}"#, code::NO_REQUEST),
            (br#"{"jsonrpc":"2.0","id":1}"#, code::NO_REQUEST),
        ] {
            let answer = read_request(line).expect_err("it is none");
            assert_eq!(answer.code, code, "{answer:?}");
        }
    }
}
