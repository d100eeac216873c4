//! nginx with TLS of an own authority: tokens, ranges off, packing, chunks, links that expire, and a second server that is another
//! origin and takes files in the folder `put`, and in `dav` where whoever comes makes the folders. Both log which headers they were sent.

use std::{
    path::{Path, PathBuf},
    process::Command,
};

use anyhow::{Result, bail};

use super::{Authority, free_port, wait_for_port};

/// A running nginx.
pub struct Nginx {
    folder: PathBuf,
    /// The port with TLS, whose certificate is for `store.inner.example`.
    pub tls: u16,
    /// The port with TLS and client certificates, for `localhost`.
    pub certificates: u16,
    /// The port without TLS, another origin.
    pub plain: u16,
}

impl Nginx {
    /// Serves the files in `www`, and keeps its own in `folder`, where `authority` has issued `server` and `local`.
    ///
    /// # Errors
    /// nginx is not there, or refuses.
    pub fn start(folder: &Path, www: &Path, authority: &Authority) -> Result<Self> {
        let (tls, certificates, plain) = (free_port()?, free_port()?, free_port()?);
        let (d, w, ca) = (folder.display(), www.display(), authority.folder().display());
        for name in ["body", "tmp"] {
            std::fs::create_dir_all(folder.join(name))?;
        }
        let text = format!(
            r#"daemon on; user root; worker_processes 2; pid {d}/nginx.pid; error_log {d}/error.log warn;
events {{ worker_connections 256; }}
http {{
  log_format full '$request $status range="$http_range" auth="$http_authorization" xtok="$http_x_export_token" args="$args"';
  access_log {d}/access.log full;
  client_body_temp_path {d}/body; proxy_temp_path {d}/tmp; fastcgi_temp_path {d}/tmp; uwsgi_temp_path {d}/tmp; scgi_temp_path {d}/tmp;
  sendfile on; default_type application/octet-stream; keepalive_requests 100000;
  map $http_authorization $okauth {{ default 0; "Bearer secret-token-1" 1; }}
  map $http_x_export_token $okx {{ default 0; "secret-token-2" 1; }}
  server {{
    listen 127.0.0.1:{tls} ssl; server_name store.inner.example; ssl_certificate {ca}/server.pem; ssl_certificate_key {ca}/server.key;
    location /t/ {{ if ($okauth = 0) {{ return 401; }} alias {w}/; }}
    location /x/ {{ if ($okx = 0) {{ return 403; }} alias {w}/; }}
    location /link/ {{ secure_link $arg_sig,$arg_exp; secure_link_md5 "$secure_link_expires$uri key-of-links";
      if ($secure_link = "") {{ return 403; }} if ($secure_link = "0") {{ return 410; }} alias {w}/; }}
    location /norange/ {{ max_ranges 0; alias {w}/; }}
    location /gz/ {{ gzip on; gzip_types *; gzip_proxied any; gzip_min_length 1; alias {w}/; }}
    location /chunked/ {{ sub_filter_types *; sub_filter 'no such text here' ''; alias {w}/; }}
    location /away/ {{ rewrite ^/away/(.*)$ https://localhost:{certificates}/$1 redirect; }}
    location /down/ {{ rewrite ^/down/(.*)$ http://127.0.0.1:{plain}/$1 redirect; }}
    location /list/ {{ autoindex on; alias {w}/; }}
  }}
  server {{
    listen 127.0.0.1:{certificates} ssl; access_log {d}/other.log full; ssl_certificate {ca}/local.pem; ssl_certificate_key {ca}/local.key;
    ssl_client_certificate {ca}/ca.pem; ssl_verify_client optional; root {w};
    client_max_body_size 0;
    location /put/ {{ dav_methods PUT DELETE; create_full_put_path on; }}
    location /dav/ {{ dav_methods PUT DELETE MKCOL; }}
    location /mine/ {{ if ($ssl_client_verify != SUCCESS) {{ return 403; }} alias {w}/; }}
  }}
  server {{ listen 127.0.0.1:{plain}; access_log {d}/other.log full; root {w}; }}
}}
"#
        );
        let file = folder.join("nginx.conf");
        std::fs::write(&file, text)?;
        let program = if Path::new("/usr/sbin/nginx").exists() { "/usr/sbin/nginx" } else { "nginx" };
        let out = Command::new(program).arg("-c").arg(&file).output()?;
        if !out.status.success() {
            bail!("nginx: {}", String::from_utf8_lossy(&out.stderr));
        }
        let server = Self { folder: folder.into(), tls, certificates, plain };
        wait_for_port(tls)?;
        Ok(server)
    }

    /// What the first server was asked, and what the others were.
    pub fn logs(&self) -> (String, String) {
        let read = |name: &str| std::fs::read_to_string(self.folder.join(name)).unwrap_or_default();
        (read("access.log"), read("other.log"))
    }
}

impl Drop for Nginx {
    fn drop(&mut self) {
        let pid = std::fs::read_to_string(self.folder.join("nginx.pid")).unwrap_or_default();
        Command::new("kill").arg(pid.trim()).status().ok();
    }
}
