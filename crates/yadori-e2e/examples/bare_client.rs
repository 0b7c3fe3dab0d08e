//! The limit that a command is measured beside: a program that does nothing but ask for a page of the list and print
//! the answer. It is given the address and the token of the service.

use std::env::args;
use std::io::{Error, Read, Write, stdout};
use std::net::TcpStream;

fn main() -> Result<(), Error> {
    let (Some(address), Some(token)) = (args().nth(1), args().nth(2)) else {
        return Err(Error::other("give the address and the token of the service"));
    };
    let mut connection = TcpStream::connect(&address)?;
    let (request, close) = ("GET /api/v1/clips?limit=20 HTTP/1.1", "Connection: close");
    write!(connection, "{request}\r\nHost: {address}\r\nAuthorization: Bearer {token}\r\n{close}\r\n\r\n")?;
    let mut answer = Vec::new();
    connection.read_to_end(&mut answer)?;
    stdout().write_all(&answer)
}
